// A run, held against one before it.
import { Link, useParams } from 'react-router';
import styled from 'styled-components';
import type { Comparison } from '../data/api';
import { useComparison } from '../data/queries';
import { text, useView } from '../parts/address';
import { Loaded } from '../parts/Loaded';
import { Command, Head, Page, Section, Sub, Title } from '../parts/page';
import { VerdictWord } from '../parts/Tile';
import { Table } from '../parts/Table';
import { c } from '../theme';

const parts = { with: text(), sort: text() };

export default function ComparePage() {
  const { id = '' } = useParams();
  const [view] = useView(parts);
  const compared = useComparison(id, view.with);
  return <Loaded of={compared} what="the comparison" page>{(x) => <Compared x={x} />}</Loaded>;
}

const Turn = styled.span`display: inline-flex; gap: 8px; align-items: center; color: ${c.faint};`;

const Run = ({ of, called }: { of: Comparison['now']; called: string }) => (
  <>
    {called} <Link to={`/runs/${of.id}`}>run {of.number}{of.name && `, ${of.name}`}</Link> ({of.build} with {of.package})
  </>
);

function Compared({ x }: { x: Comparison }) {
  const [view, setView] = useView(parts);
  return (
    <Page>
      <Title>{x.sentence}</Title>
      <Head>
        <div>
          <h1>{x.sentence}</h1>
          <Sub><Run of={x.now} called="Now:" />. <Run of={x.before} called="Before:" />.</Sub>
        </div>
      </Head>
      {x.differences.length > 0 && (
        <Section aria-labelledby="otherwise">
          <h2 id="otherwise">What came out otherwise</h2>
          <Table
            label="Cases that came out otherwise"
            items={x.differences}
            id={(d) => `${d.now_leg} ${d.case}`}
            href={(d) => `/legs/${d.now_leg}?case=${encodeURIComponent(d.case)}`}
            sort={view.sort}
            onSort={(sort) => setView({ sort })}
            columns={[
              { name: 'case', wide: true, show: (d) => d.case, sort: (d) => d.case },
              { name: 'device', show: (d) => d.device, sort: (d) => d.device },
              {
                name: 'before → now',
                show: (d) => <Turn><VerdictWord what={d.before} /> → <VerdictWord what={d.now} /></Turn>,
              },
              {
                name: '',
                show: (d) => <Link to={`/legs/${d.before_leg}?case=${encodeURIComponent(d.case)}`}>the leg before</Link>,
              },
            ]}
          />
          {x.cut && <Sub>More are left out.</Sub>}
        </Section>
      )}
      {x.families.length > 0 && (
        <Section aria-labelledby="families">
          <h2 id="families">Families</h2>
          <Table
            label="Families of both runs"
            items={x.families}
            id={(f) => f.id}
            columns={[
              { name: 'kind', show: (f) => <VerdictWord what={f.kind} /> },
              { name: 'what', wide: true, show: (f) => f.title },
              { name: 'legs before', show: (f) => String(f.before) },
              { name: 'legs now', show: (f) => String(f.now) },
            ]}
          />
        </Section>
      )}
      <Command>{`tessellant run compare ${x.now.number} ${x.before.number}`}</Command>
    </Page>
  );
}
