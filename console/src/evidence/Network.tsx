// What the app asked of servers: a list with a bar for when, and one exchange whole. Only the rows in sight are fetched.
import { useQueries, useQuery } from '@tanstack/react-query';
import { memo, useCallback, useEffect, useState } from 'react';
import styled from 'styled-components';
import type { Exchange, NetworkRow } from '../data/api';
import { exchangeQuery, networkPage, networkPageQuery, useNetworkOverview, type NetworkFilter } from '../data/queries';
import { Button, SearchField, Select } from '../parts/controls';
import { CopyButton, Faint, Refused, Row, Sub } from '../parts/page';
import { c } from '../theme';
import { bytes, clock, many, took } from '../words';
import { useCursor, type Cursor } from './cursor';
import { curl, headText, place, status, typeText } from './exchange';
import { Rows } from './rows';
import type { Span } from './span';

const Pane = styled.section`
  display: flex; flex-direction: column; gap: 8px; min-height: 0; height: 100%;
  @media (max-width: 1000px) { height: 520px; }
`;
const Both = styled.div<{ $two: boolean }>`
  display: grid; grid-template-columns: minmax(0, 1fr) ${(p) => (p.$two ? 'minmax(0, 1fr)' : '')}; gap: 12px; flex: 1; min-height: 0;
  @media (max-width: 1000px) {
    grid-template-columns: minmax(0, 1fr); grid-template-rows: minmax(0, 1fr) ${(p) => (p.$two ? 'minmax(0, 1fr)' : '')};
  }
`;
const List = styled.div`display: flex; flex-direction: column; min-height: 0;`;
const Line = styled.div<{ $failed: boolean; $narrow: boolean }>`
  display: grid; gap: 8px; padding: 0 8px; font-size: 12px; line-height: 20px; font-variant-numeric: tabular-nums;
  grid-template-columns: ${(p) =>
    p.$narrow ? '66px 56px 44px minmax(0, 1fr)' : '66px 56px 44px minmax(120px, 2fr) 90px 62px 56px minmax(60px, 1fr)'};
  span { overflow: hidden; text-overflow: ellipsis; }
  ${(p) => p.$failed && `box-shadow: inset -3px 0 ${c.failed}; font-weight: 560;`}
  @media (max-width: 720px) { grid-template-columns: 60px 50px 40px minmax(0, 1fr); > :nth-child(n + 5) { display: none; } }
`;
const Dim = styled.span`color: ${c.faint};`;
const Right = styled.span`text-align: right;`;
const Bar = styled.span`position: relative; height: 20px;`;
const Fill = styled.i<{ $failed: boolean }>`
  position: absolute; top: 6px; height: 8px; min-width: 2px; background: ${(p) => (p.$failed ? c.failed : c.lapis)}; border-radius: 1px;
`;
const One = styled.div`
  overflow: auto; min-height: 0; background: ${c.panel}; border: 1px solid ${c.grout}; padding: 8px 12px;
  display: flex; flex-direction: column; gap: 8px;
  pre { white-space: pre-wrap; overflow-wrap: anywhere; font-size: 12px; line-height: 18px; }
  summary { cursor: pointer; }
`;
const Parts = styled.div`
  display: flex; height: 10px; width: 100%; max-width: 420px; border-radius: 2px; overflow: hidden;
  i { display: block; height: 100%; }
`;

const orders = [
  { id: 'worst', text: 'failed and slow first' },
  { id: 'time', text: 'by time' },
  { id: 'size', text: 'largest first' },
];

/** What of the network log is shown; it stands in the page's address. */
export interface NetworkView {
  net: 'time' | 'worst' | 'size';
  host: string;
  bad: 'all' | 'failed';
  n: number;
}

const RowLine = memo(function RowLine({ r, span, narrow }: { r: NetworkRow; span: Span; narrow: boolean }) {
  const wide = Math.max(span.to - span.from, 1);
  const left = Math.min(Math.max((100 * (r.at - span.from)) / wide, 0), 100);
  const right = Math.min(Math.max((100 * (r.at + r.took - span.from)) / wide, 0), 100);
  const shown = r.at + r.took >= span.from && r.at <= span.to;
  const { host, path } = place(r.url);
  return (
    <Line $failed={r.failed} $narrow={narrow}>
      <Dim>{clock(r.at)}</Dim>
      <Right>{took(r.took)}</Right>
      <span>{status(r)}</span>
      <span title={r.url}>{r.method === 'CONNECT' ? '' : `${r.method} `}{path}<Dim>{path ? ' ' : ''}{host}</Dim></span>
      {!narrow && (
        <>
          <Dim title={r.type}>{typeText(r)}</Dim>
          <Right>{bytes(r.received)}</Right>
          <Right><Dim>{r.sent ? bytes(r.sent) : ''}</Dim></Right>
          <Bar>{shown && <Fill $failed={r.failed} style={{ left: `${left}%`, width: `${Math.max(right - left, 0)}%` }} />}</Bar>
        </>
      )}
    </Line>
  );
});

export function Network({ leg, attempt, kept, live, there, cursor, span, view, onView }: {
  leg: string; attempt: number; kept: boolean; live: boolean; there: boolean; cursor: Cursor; span: Span; view: NetworkView;
  onView: (change: Partial<NetworkView>) => void;
}) {
  const { net, host, bad, n } = view;
  const [typed, setTyped] = useState(host);
  const [seen, setSeen] = useState<[number, number]>([0, 0]);
  useEffect(() => {
    const t = setTimeout(() => typed !== host && onView({ host: typed }), 250);
    return () => clearTimeout(t);
  }, [typed, host, onView]);
  const overview = useNetworkOverview(leg, attempt, there, live);
  const upTo = live ? (overview.data?.count ?? 0) : 0;
  const filter: NetworkFilter = { order: net };
  if (host) filter.text = host;
  if (bad === 'failed') filter.failed = true;
  const first = Math.floor(seen[0] / networkPage);
  const last = Math.floor(seen[1] / networkPage);
  const wanted = Array.from({ length: Math.min(last - first + 1, 8) }, (_, i) => first + i);
  const pages = useQueries({ queries: wanted.map((p) => ({ ...networkPageQuery(leg, attempt, filter, p, upTo), enabled: there })) });
  const one = useQuery({ ...exchangeQuery(leg, attempt, n), enabled: n > 0 });
  const known = new Map<number, NetworkRow>();
  for (const p of pages) p.data?.items.forEach((r, i) => known.set(p.data.from + i, r));
  const rows = pages.find((p) => p.data)?.data?.rows ?? 0;
  const onSeen = useCallback((a: number, b: number) => setSeen([a, b]), []);
  let at = -1;
  for (const [i, r] of known) if (r.n === n) at = i;
  function choose(i: number) {
    const r = known.get(i);
    if (!r) return;
    cursor.move(r.at, 'network');
    onView({ n: r.n });
  }
  const error = overview.error ?? pages.find((p) => p.error)?.error;
  if (error) return <Refused error={error} />;
  const o = overview.data;
  if (!o && there) return <Sub role="status">Reading the network log …</Sub>;
  if (!o || o.count === 0)
    return (
      <Sub>
        {!kept
          ? 'The network log was switched off for this run.'
          : live
            ? 'Nothing was asked yet; what comes is shown within seconds.'
            : 'No traffic was seen: the app asked nothing of the network, or it does not mind the device’s proxy.'}
      </Sub>
    );
  return (
    <Pane aria-label="Network">
      <Row $gap={8}>
        <Select
          label="Order"
          hideLabel
          value={net}
          onChange={(v) => onView({ net: v as NetworkView['net'] })}
          options={orders}
        />
        <Select
          label="Which"
          hideLabel
          value={bad}
          onChange={(v) => onView({ bad: v as NetworkView['bad'] })}
          options={[{ id: 'all', text: 'all exchanges' }, { id: 'failed', text: 'only failed ones', more: String(o.failed) }]}
        />
        <SearchField label="Find an exchange" value={typed} onChange={setTyped} placeholder="address, status, type" />
        <Sub role={live ? undefined : 'status'}>
          {rows === o.count ? many(o.count, 'exchange') : `${rows.toLocaleString('en-GB')} of ${many(o.count, 'exchange')}`},{' '}
          {o.failed ? <strong>{o.failed} failed</strong> : 'none failed'}, {bytes(o.received + o.sent)}{live && '; more to come'}
        </Sub>
      </Row>
      <Both $two={n > 0}>
        <List>
          <Rows
            label="Exchanges"
            id="net"
            count={rows}
            height={20}
            at={at}
            follow={false}
            row={(i) => {
              const r = known.get(i);
              return r ? <RowLine r={r} span={span} narrow={n > 0} /> : null;
            }}
            onChoose={choose}
            onSeen={onSeen}
          />
        </List>
        {n > 0 && (
          <One aria-label="The exchange" role="region" tabIndex={0}>
            {one.error && <Refused error={one.error} />}
            {one.data && <Whole e={one.data} n={n} cursor={cursor} onClose={() => onView({ n: 0 })} />}
            {!one.error && !one.data && <Sub>Reading it …</Sub>}
          </One>
        )}
      </Both>
    </Pane>
  );
}

const partColours: [keyof Exchange['timings'], string, string][] = [
  ['blocked', 'queued', c.grout], ['dns', 'name', c.lost], ['connect', 'connecting', c.flaky], ['send', 'sending', c.expired],
  ['wait', 'waiting', c.lapis], ['receive', 'receiving', c.passed],
];

function Whole({ e, n, cursor, onClose }: { e: Exchange; n: number; cursor: Cursor; onClose: () => void }) {
  const here = useCursor(cursor, (s) => Math.abs(s.at - e._at) < 1);
  const parts = partColours.map(([k, name, colour]) => ({ k, name, colour, ms: e.timings[k] ?? -1 })).filter((p) => p.ms > 0.05);
  const sum = parts.reduce((t, p) => t + p.ms, 0);
  return (
    <>
      <Row $gap={8} style={{ justifyContent: 'space-between', flexWrap: 'nowrap', alignItems: 'flex-start' }}>
        <h3 style={{ fontSize: 13, overflowWrap: 'anywhere' }}>{headText(e)}</h3>
        <Button $small aria-label="Close the exchange" onPress={onClose}>Close</Button>
      </Row>
      {(e._error ?? e._note) && <Sub>{[e._error, e._note].filter(Boolean).join('; ')}</Sub>}
      <Sub>
        At {clock(e._at)}, took {took(e.time)}{e._tls && `, ${e._tls}`}, {e.response.httpVersion || e.request.httpVersion}
        {!here && <> · <Button $small onPress={() => cursor.move(e._at, 'network')}>Go there</Button></>}
        {' '}<CopyButton text={curl(e)} what="the request for curl" label="copy as curl" />
      </Sub>
      {sum > 0 && (
        <div>
          <Parts aria-hidden>
            {parts.map((p) => <i key={p.k} style={{ width: `${(100 * p.ms) / sum}%`, background: p.colour }} />)}
          </Parts>
          <Faint style={{ fontSize: 12 }}>{parts.map((p) => `${p.name} ${took(p.ms)}`).join(', ')}</Faint>
        </div>
      )}
      <Part title="Asked" headers={e.request.headers} body={e.request.postData} />
      <Part title="Answered" headers={e.response.headers} body={e.response.content} />
      <Faint style={{ fontSize: 12 }}>No. {n} in network.har</Faint>
    </>
  );
}

function Part({ title, headers, body }: {
  title: string; headers: Exchange['request']['headers']; body: Exchange['response']['content'] | undefined;
}) {
  if (headers.length === 0 && !body?.text) return null;
  return (
    <div>
      <details>
        <summary>{title}: {many(headers.length, 'header')}{body && body.size > 0 && `, ${bytes(body.size)} ${body.mimeType}`}</summary>
        <pre>{headers.map((h) => `${h.name}: ${h.value}`).join('\n')}</pre>
      </details>
      {body?.text && <pre style={{ marginTop: 4 }}>{pretty(body.text, body.mimeType)}</pre>}
      {body?.comment && <Faint style={{ fontSize: 12 }}>{body.comment}</Faint>}
    </div>
  );
}

/** JSON with its lines set in; anything else as it came. */
function pretty(text: string, type: string): string {
  if (!type.includes('json') || text.length > 100_000) return text;
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}

