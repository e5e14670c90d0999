// Sessions, a row each.
import type { Session } from '../data/api';
import { Faint, When } from '../parts/page';
import { Table } from '../parts/Table';
import { VerdictWord } from '../parts/Tile';
import { took } from '../words';
import { sessionState } from './words';

export function SessionList({ items }: { items: Session[] }) {
  return (
    <Table label="Sessions" items={items} id={(s) => s.id} href={(s) => `/sessions/${s.id}`}
      columns={[
        {
          name: 'verdict',
          show: (s) => <VerdictWord what={s.stage === 'waiting' ? 'waiting' : (s.verdict ?? 'running')}>{sessionState(s)}</VerdictWord>,
        },
        {
          name: 'name',
          wide: true,
          show: (s) => (
            <>
              {s.name || <Faint>no name</Faint>}
              {s.message && (
                <>
                  {' '}
                  · <Faint>{s.message.split('\n')[0]}</Faint>
                </>
              )}
            </>
          ),
        },
        { name: 'group', show: (s) => s.group },
        { name: 'device', show: (s) => s.device?.serial ?? '' },
        { name: 'cases', show: (s) => casesText(s) },
        { name: 'opened', show: (s) => <When at={s.created} /> },
        { name: 'took', show: (s) => (s.started && s.ended ? took(Date.parse(s.ended) - Date.parse(s.started)) : '') },
      ]}
    />
  );
}

function casesText(s: Session): string {
  return Object.entries(s.cases).filter(([, n]) => n > 0).map(([v, n]) => `${n} ${v}`).join(', ');
}
