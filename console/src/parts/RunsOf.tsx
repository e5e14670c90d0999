// The last runs of a build or of a package.
import { useRuns, type RunFilter } from '../data/queries';
import { Table } from './Table';
import { useTopics } from '../data/tab';
import { Refused, Section, Sub, When } from './page';

export function RunsOf({ filter, none }: { filter: RunFilter; none: string }) {
  const runs = useRuns(filter, 10);
  useTopics({ list: ['runs'] });
  const items = runs.data?.pages[0]?.items ?? [];
  return (
    <Section aria-labelledby="runs">
      <h2 id="runs">Runs</h2>
      {runs.error && <Refused error={runs.error} />}
      {runs.data && items.length === 0 && <Sub>{none}</Sub>}
      {items.length > 0 && (
        <Table label="Runs" items={items} id={(r) => r.id} href={(r) => `/runs/${r.id}`}
          columns={[
            { name: 'result', wide: true, show: (r) => r.sentence },
            { name: 'build', show: (r) => r.build },
            { name: 'package', show: (r) => r.package },
            { name: 'started', show: (r) => <When at={r.created} /> },
          ]}
        />
      )}
    </Section>
  );
}
