// How devices are set: conditions for all, and named variants of them.
import styled from 'styled-components';
import type { Change } from '../parts/address';
import { Button, TextField } from '../parts/controls';
import { Section, Sub } from '../parts/page';
import { narrow } from '../theme';
import { conditionNames } from '../words';
import type { RunForm } from './RunForm';

const Line = styled.div`
  display: grid; grid-template-columns: minmax(96px, 160px) minmax(0, 1fr) auto; gap: 12px; align-items: end;
  ${narrow} { grid-template-columns: minmax(0, 1fr) auto; > :nth-child(2) { grid-column: 1 / -1; grid-row: 2; } }
`;
const cut = (v: string): [string, string] => {
  const at = v.indexOf('=');
  return at < 0 ? [v, ''] : [v.slice(0, at), v.slice(at + 1)];
};

export function Settings({ form, set }: { form: RunForm; set: (change: Change<RunForm>) => void }) {
  const put = (n: number, change: { name?: string; conditions?: string }) =>
    set(({ variants }) => ({
      variants: variants.map((v, i) => {
        if (i !== n) return v;
        const [name, conditions] = cut(v);
        return `${(change.name ?? name).replace(/[=|]/g, '')}=${(change.conditions ?? conditions).replaceAll('|', '')}`;
      }),
    }));
  return (
    <Section aria-labelledby="settings">
      <h2 id="settings">How devices are set</h2>
      <TextField
        label="Conditions for all legs"
        mono
        value={form.conditions}
        onChange={(conditions) => set({ conditions })}
        placeholder="animations:off,font-scale:1.3"
        hint={<>Empty: as each device is. There are {conditionNames.join(', ')}.</>}
      />
      {form.variants.map((v, i) => {
        const [name, conditions] = cut(v);
        return (
          <Line key={i}>
            <TextField label={`Variant ${i + 1}`} value={name} onChange={(x) => put(i, { name: x })} placeholder="de" />
            <TextField
              label="Its conditions"
              mono
              value={conditions}
              onChange={(x) => put(i, { conditions: x })}
              placeholder="as the device is"
            />
            <Button
              aria-label={`Remove variant ${name || i + 1}`}
              onPress={() => set(({ variants }) => ({ variants: variants.filter((_, k) => k !== i) }))}
            >
              Remove
            </Button>
          </Line>
        );
      })}
      <div>
        <Button
          isDisabled={form.variants.length >= 20}
          onPress={() => set(({ variants }) => ({ variants: [...variants, next(variants)] }))}
        >
          Add a variant
        </Button>
      </div>
      {form.variants.length > 0 && <Sub>Each device runs the cases once under each variant.</Sub>}
    </Section>
  );
}

/** What a new line begins with: first the device as it is, to compare with. */
function next(have: string[]): string {
  if (have.length === 0) return 'as-it-is=';
  return have.some((v) => v.startsWith('de=')) ? `v${have.length + 1}=` : 'de=language:de';
}
