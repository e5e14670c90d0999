// A check of a device: all that tests need of it, tried one thing after the other.
import { useQuery } from '@tanstack/react-query';
import { useAction } from '../data/action';
import { answer, http, Refusal, type Device, type DeviceCheck } from '../data/api';
import { client, useMay } from '../data/queries';
import { Button } from '../parts/controls';
import { Table } from '../parts/Table';
import { Command, Refused, Row, Section, Sub, When } from '../parts/page';
import { VerdictWord } from '../parts/Tile';
import { took } from '../words';

const checkQuery = (serial: string) => ({
  queryKey: ['check', serial],
  queryFn: async () => {
    try {
      return await answer(http.GET('/devices/{serial}/check', { params: { path: { serial } } }));
    } catch (e) {
      if (e instanceof Refusal && e.status >= 400 && e.status < 500) return null; // it has none, or its host is away
      throw e;
    }
  },
  refetchInterval: (q: { state: { data?: DeviceCheck | null } }) => (q.state.data && !q.state.data.done ? 500 : false),
});

export default function Check({ d }: { d: Device }) {
  const { serial } = d;
  const may = useMay('test');
  const { data: check, error } = useQuery(checkQuery(serial));
  const begin = useAction(async () =>
    client.setQueryData(['check', serial], await answer(http.POST('/devices/{serial}/check', { params: { path: { serial } } }))),
  );
  const goesOn = check != null && !check.done;
  return (
    <Section aria-labelledby="check">
      <h2 id="check">Can it be tested?</h2>
      {!check && (
        <Sub>
          A check tries what tests need: waking, touching, typing, pictures, the log, apps and their permissions. It takes about 20
          seconds, and leaves the device as it was.
        </Sub>
      )}
      {check && (
        <p>
          <span role="status">{check.done ? check.sentence : 'The check is running.'}</span>{' '}
          {!check.done && `${check.steps.at(-1)?.name ?? 'starting'} (${check.steps.length} of ${check.of || '…'})`}
          {check.done && <Sub as="span">Checked <When at={check.began} />, in {took(check.took_ms)}.</Sub>}
        </p>
      )}
      {[error, begin.error].map((e, i) => (e ? <Refused key={i} error={e} /> : null))}
      <Row>
        {may && (
          <Button isDisabled={goesOn || begin.busy} onPress={() => void begin.run()}>
            {check ? 'Check again' : 'Check device'}
          </Button>
        )}
        <Command>{`tessellant device check ${serial}`}</Command>
      </Row>
      {check && check.steps.length > 0 && (
        <Table label="Steps of the check" items={check.steps} id={(s) => s.name}
          columns={[
            { name: 'result', show: (s) => <VerdictWord what={s.state}>{s.state}</VerdictWord> },
            { name: 'what was tried', show: (s) => s.name },
            { name: 'what was found', wide: true, show: (s) => (s.remedy ? `${s.found}; ${s.remedy}` : s.found) },
            { name: 'took', show: (s) => (s.state === 'passed' || s.state === 'failed' ? took(s.took_ms) : '') },
          ]}
        />
      )}
    </Section>
  );
}
