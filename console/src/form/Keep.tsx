// What of a run is kept, and which limits its gauges must keep to.
import styled from 'styled-components';
import type { Change } from '../parts/address';
import { Select, TextField } from '../parts/controls';
import { Section, Sub } from '../parts/page';
import { narrow } from '../theme';
import { amountText, kinds, parseRecording, withKind } from './recording';
import type { RunForm } from './RunForm';

const Kinds = styled.div`
  display: grid; grid-template-columns: repeat(3, minmax(0, 1fr)); gap: 12px; ${narrow} { grid-template-columns: minmax(0, 1fr); }
`;

export function Keep({ form, set }: { form: RunForm; set: (change: Change<RunForm>) => void }) {
  const chosen = parseRecording(form.record);
  return (
    <Section aria-labelledby="keep">
      <h2 id="keep">What is kept</h2>
      <Kinds>
        {kinds.map((k) => (
          <Select
            key={k.name}
            label={k.text}
            value={chosen[k.name] ?? k.usual}
            onChange={(v) => set(({ record }) => ({ record: withKind(record, k.name, v) }))}
            options={k.values.map((v) => ({ id: v, text: amountText(v), more: v === k.usual ? 'usual' : undefined }))}
          />
        ))}
      </Kinds>
      <TextField
        label="Bounds on gauges"
        mono
        value={form.bounds}
        onChange={(bounds) => set({ bounds })}
        placeholder="memory<400"
        hint="A case in which one is passed fails: a gauge, < or >, a number; commas between."
      />
      <Select
        label="What is wrong with a screen though no test asked for it"
        value={form.remarks}
        onChange={(v) => set({ remarks: v === 'fail' ? 'fail' : 'tell' })}
        options={[{ id: 'tell', text: 'is told alone' }, { id: 'fail', text: 'fails the case' }]}
      />
      {chosen.network === 'off' && <Sub>Without the network log nobody sees afterwards what the app asked of servers.</Sub>}
    </Section>
  );
}
