// Pairing with a phone that debugs over the network: by the code that it shows, or by a picture that it scans.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useAction } from '../data/action';
import { answer, http, type Host, type Pairing } from '../data/api';
import { useMay } from '../data/queries';
import { Button, Select, TextField } from '../parts/controls';
import { Refused, Row, Section, Sub } from '../parts/page';

const stands = (host: string, id: string) => ({
  queryKey: ['pairing', host, id],
  queryFn: () => answer(http.GET('/hosts/{name}/pairings/{id}', { params: { path: { name: host, id } } })),
  enabled: id !== '',
  refetchInterval: (q: { state: { data?: Pairing } }) => (!q.state.data || q.state.data.state === 'waiting' ? 500 : false as const),
});

export default function Pair({ hosts }: { hosts: Host[] }) {
  const up = hosts.filter((h) => h.state === 'up');
  const may = useMay('installation');
  const [open, setOpen] = useState(false);
  const [host, setHost] = useState('');
  const [address, setAddress] = useState('');
  const [code, setCode] = useState('');
  const name = host || up[0]?.name || '';
  const [begun, setBegun] = useState<Pairing>();
  const begin = useAction(async (body: { address?: string; code?: string }) =>
    setBegun(await answer(http.POST('/hosts/{name}/pairings', { params: { path: { name } }, body }))),
  );
  const state = useQuery(stands(begun?.host ?? '', begun?.id ?? ''));
  const now = state.data ?? begun;
  const busy = begin.busy || now?.state === 'waiting';
  if (up.length === 0 || !may) return null;
  if (!open) return <Row><Button onPress={() => setOpen(true)}>Pair with a phone over the network …</Button></Row>;
  return (
    <Section aria-labelledby="pair">
      <h2 id="pair">Pair with a phone over the network</h2>
      <Sub>On the phone (Android 11 and later): developer options, Wireless debugging. Phone and host must be in one network.</Sub>
      <Row $gap={12} style={{ alignItems: 'flex-end' }}>
        {up.length > 1 && <Select label="Host" value={name} onChange={setHost} options={up.map((h) => ({ id: h.name, text: h.name }))} />}
        <TextField label="Address that it shows" value={address} onChange={setAddress} mono />
        <TextField label="Code that it shows" value={code} onChange={setCode} mono />
        <Button
          $main
          isDisabled={!address.trim() || !code.trim() || busy}
          onPress={() => void begin.run({ address: address.trim(), code: code.trim() })}
        >
          Pair
        </Button>
        <Button isDisabled={busy} onPress={() => void begin.run({})}>
          Draw a picture for it to scan
        </Button>
        <Button
          onPress={() => {
            setOpen(false);
            setBegun(undefined);
            begin.clear();
          }}
        >
          Close
        </Button>
      </Row>
      {[begin.error, state.error].map((e, i) => (e ? <Refused key={i} error={e} /> : null))}
      {now && (
        <div role="status">
          {now.state === 'waiting' &&
            (now.picture ? <p>Choose “Pair device with QR code” on the phone, and scan this:</p> : <p>It is being paired …</p>)}
          {now.state === 'waiting' && now.picture && <Picture rows={now.picture} />}
          {now.state === 'paired' && <p>Paired. The phone appears among the devices in a moment.</p>}
          {now.state === 'failed' && <p>It was not paired: {now.why}. What to do: {now.remedy}.</p>}
        </div>
      )}
    </Section>
  );
}

/** A QR code, dark on light whatever the look: cameras want it so. */
function Picture({ rows }: { rows: string[] }) {
  const path = rows.flatMap((row, y) => [...row].flatMap((m, x) => (m === '1' ? [`M${x} ${y}h1v1h-1z`] : []))).join('');
  return (
    <svg
      role="img"
      aria-label="QR code for the phone to scan"
      width="232"
      height="232"
      viewBox={`0 0 ${rows[0]!.length} ${rows.length}`}
      shapeRendering="crispEdges"
    >
      <rect width="100%" height="100%" fill="#fff" />
      <path d={path} fill="#000" />
    </svg>
  );
}
