// One revision of a test package: its cases, its findings, its runs.
import { useParams } from 'react-router';
import type { Package } from '../data/api';
import { usePackage } from '../data/queries';
import { Table } from '../parts/Table';
import { Loaded } from '../parts/Loaded';
import { Facts, Findings, Head, Mono, Page, Ref, Section, Sub, Title, When } from '../parts/page';
import { RunsOf } from '../parts/RunsOf';
import { StartLink } from '../parts/StartLink';
import { bytes, many } from '../words';

export default function PackagePage() {
  const { ref = '' } = useParams();
  const pkg = usePackage(ref);
  return <Loaded of={pkg} what="the package" page>{(p) => <One p={p} />}</Loaded>;
}

function One({ p }: { p: Package }) {
  return (
    <Page>
      <Title>{p.ref}</Title>
      <Head>
        <div>
          <h1>
            {p.name}, revision {p.revision}: {p.program ? 'a program' : many(p.cases.length, 'case')},{' '}
            {p.findings.length ? many(p.findings.length, 'finding') : 'no findings'}.
          </h1>
          <Sub>
            {p.about} Uploaded <When at={p.created} />.
          </Sub>
        </div>
        <StartLink pkg={p.ref} />
      </Head>
      {p.findings.length > 0 && <Section aria-labelledby="findings"><h2 id="findings">Findings</h2><Findings of={p.findings} /></Section>}
      {p.program && (
        <Section aria-labelledby="program">
          <h2 id="program">The program</h2>
          <Facts
            of={[
              ['prepare', p.program.prepare && <Mono key="p">{p.program.prepare.join(' ')}</Mono>],
              ['run', <Mono key="r">{p.program.run.join(' ')}</Mono>],
              ['needs', p.program.needs.join(', ') || undefined],
              ['results', <Mono key="x">{p.program.results.join(', ')}</Mono>],
              ['cases', 'are seen when it has run'],
            ]}
          />
        </Section>
      )}
      {!p.program && <Section aria-labelledby="cases">
        <h2 id="cases">Cases</h2>
        <Table label="Cases" items={p.cases} id={(k) => k.name}
          columns={[
            { name: 'case', show: (k) => <Mono>{k.name}</Mono> },
            { name: 'tags', show: (k) => k.tags?.join(' ') },
            { name: 'about', wide: true, show: (k) => k.about },
            { name: 'where', show: (k) => <Mono>{k.file}:{k.line}</Mono> },
          ]}
        />
      </Section>}
      {p.inputs.length > 0 && (
        <Section aria-labelledby="inputs">
          <h2 id="inputs">Inputs</h2>
          <Table label="Inputs" items={p.inputs} id={(k) => k.name}
            columns={[
              { name: 'input', show: (k) => <Mono>{k.name}</Mono> },
              { name: 'about', wide: true, show: (k) => k.about },
              { name: 'unless given', show: (k) => (k.secret ? 'secret: a run must give it' : (k.default ?? 'a run must give it')) },
            ]}
          />
        </Section>
      )}
      <RunsOf filter={{ package: p.id }} none="No run has used this revision yet." />
      <Section aria-labelledby="facts">
        <h2 id="facts">The file</h2>
        <Facts
          of={[
            ['reference', <Ref key="r">{p.ref}</Ref>],
            ['kind', p.kind],
            ['size', bytes(p.size)],
            ['SHA-256', <Ref key="s">{p.sha256}</Ref>],
            ['id', <Ref key="i">{p.id}</Ref>],
          ]}
        />
      </Section>
    </Page>
  );
}
