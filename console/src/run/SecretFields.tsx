// The secret inputs of a run that is over: it no longer has them.
import { TextField } from '../parts/controls';

type Values = Record<string, string>;

export function SecretFields(p: { names: string[] | undefined; values: Values; onChange: (v: Values) => void }) {
  return (p.names ?? []).map((name) => (
    <TextField
      key={name}
      type="password"
      label={`${name} (secret: the run before no longer has it)`}
      value={p.values[name] ?? ''}
      onChange={(v) => p.onChange({ ...p.values, [name]: v })}
    />
  ));
}

/** Those that were filled in; none: undefined. */
export const filledIn = (values: Values) => (Object.keys(values).length > 0 ? values : undefined);
