// The history of a case: builds × devices, and how often it failed for no reason.
import { Link } from 'react-router';
import styled from 'styled-components';
import type { CaseHistory } from '../data/api';
import { useCaseHistory } from '../data/queries';
import { text, useView } from '../parts/address';
import { Loaded } from '../parts/Loaded';
import { Command, Head, Page, Section, Sub, Title } from '../parts/page';
import { Tile, VerdictWord } from '../parts/Tile';
import { c, narrow } from '../theme';
import { many, order, took } from '../words';

const Scroll = styled.div`overflow: auto; max-height: 70vh; border: 1px solid ${c.grout}; background: ${c.panel};`;
const Laid = styled.table`
  font-size: 13px; line-height: 18px; border-collapse: separate; border-spacing: 0; font-variant-numeric: tabular-nums;
  th, td { padding: 4px 10px; border-bottom: 1px solid ${c.grout}; text-align: left; font-weight: 400; white-space: nowrap; }
  thead th { position: sticky; top: 0; z-index: 2; background: ${c.panel}; color: ${c.faint}; }
  tbody th { position: sticky; left: 0; z-index: 1; background: ${c.panel}; max-width: 340px; overflow: hidden; text-overflow: ellipsis; }
  td a { display: inline-flex; align-items: center; gap: 6px; color: ${c.ink}; }
  ${narrow} { tbody th { max-width: 150px; } }
`;
const Key = styled.p`display: flex; gap: 4px 16px; flex-wrap: wrap; color: ${c.faint}; font-size: 13px;`;

const parts = { case: text(), package: text(), app: text() };

export default function CasePage() {
  const [view] = useView(parts);
  const history = useCaseHistory(view.case, view.package, view.app);
  return <Loaded of={history} what="the history" page>{(h) => <History h={h} />}</Loaded>;
}

/** What the history comes to, as a sentence. */
function answerOf(h: Pick<CaseHistory, 'case' | 'bad' | 'flaky' | 'builds'>): string {
  const newest = h.builds[0]?.version ?? '';
  if (h.bad.times === 0 && h.flaky.times === 0) return `${h.case} has always passed, ${many(h.bad.of, 'time')} up to ${newest}.`;
  const flaky = h.flaky.times > 0 ? ` ${many(h.flaky.times, 'time')} it failed and then passed.` : '';
  if (h.bad.times === 0) return `${h.case} is flaky: it failed and then passed ${h.flaky.times} of ${many(h.flaky.of, 'time')}.`;
  return `${h.case} failed ${h.bad.times} of ${many(h.bad.of, 'time')}.${flaky}`;
}

const percent = (x: number) => `${(100 * x).toFixed(0)} %`;

function History({ h }: { h: CaseHistory }) {
  const seen = new Set(h.devices.flatMap((d) => d.cells.map((x) => x.verdict)));
  const says = answerOf(h);
  return (
    <Page>
      <Title>{says}</Title>
      <Head>
        <div>
          <h1>{says}</h1>
          <Sub>
            Of <Link to={`/packages/${encodeURIComponent(`${h.package}@newest`)}`}>{h.package}</Link> on {h.app},{' '}
            in {many(h.bad.runs, 'run')}
            {h.cut && ' (older ones are left out)'}.
          </Sub>
          <Sub>
            It fails for no reason in {percent(h.flaky.times / h.flaky.of)} of its runs; the true share lies between{' '}
            {percent(h.flaky.low)} and {percent(h.flaky.high)}, 19 times of 20.
            {h.quiet > 0 && h.quiet_chance !== undefined &&
              ` Since then it was quiet ${many(h.quiet, 'time')}: if it is as flaky as before, that is luck, which happens ` +
                `${(100 * h.quiet_chance).toFixed(0)} times of 100.`}
          </Sub>
        </div>
      </Head>
      <Section aria-label="Builds and devices">
        <Key>{order.filter((v) => seen.has(v)).map((v) => <VerdictWord key={v} what={v}>{v}</VerdictWord>)}</Key>
        <Scroll role="region" aria-label="How it came out" tabIndex={0}>
          <Laid>
            <thead>
              <tr>
                <th scope="col">device</th>
                <th scope="col">system</th>
                {h.builds.map((b) => (
                  <th key={b.id} scope="col"><Link to={`/builds/${b.id}`} title={b.ref}>{b.version}</Link> {b.ref.replace(/^.*@/, '@')}</th>
                ))}
              </tr>
            </thead>
            <tbody>
              {h.devices.map((d) => (
                <tr key={`${d.serial} ${d.set}`}>
                  <th scope="row" title={d.model}><Link to={`/devices/${d.serial}`}>{d.serial}</Link> {d.set}</th>
                  <td>{d.system}</td>
                  {h.builds.map((b) => {
                    const x = d.cells.find((y) => y.build === b.id);
                    if (!x) return <td key={b.id} />;
                    const said = `${d.serial} ${d.set} on ${b.version}: ${x.verdict}, run ${x.number}, ${took(x.took_seconds * 1000)}`;
                    return (
                      <td key={b.id}>
                        <Link to={`/legs/${x.leg}?case=${encodeURIComponent(h.case)}`} aria-label={said} title={said}>
                          <Tile what={x.verdict} size={14} />
                          {x.times > 1 && <span>{x.bad > 0 ? `${x.bad} of ${x.times} failed` : `${x.times} times`}</span>}
                        </Link>
                      </td>
                    );
                  })}
                </tr>
              ))}
            </tbody>
          </Laid>
        </Scroll>
        <Command>{`tessellant case history ${h.case} --package ${h.package} --app ${h.app}`}</Command>
      </Section>
    </Page>
  );
}
