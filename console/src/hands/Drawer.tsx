// The apps on a held device, and the builds that can be put on it.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useAction } from '../data/action';
import { answer, http, type Deed } from '../data/api';
import { useBuilds } from '../data/queries';
import { Button, Select } from '../parts/controls';
import { Table } from '../parts/Table';
import { Refused, Row, Section, Sub } from '../parts/page';

export function Drawer({ id }: { id: string }) {
  const builds = useBuilds().data?.pages.flatMap((p) => p.items) ?? [];
  const [build, setBuild] = useState('');
  const apps = useQuery({
    queryKey: ['heldapps', id],
    queryFn: async () => (await answer(http.GET('/hands/{id}/apps', { params: { path: { id } } }))).apps,
    retry: false,
  });
  const act = useAction(async (deed: Deed) => {
    await answer(http.POST('/hands/{id}/do', { params: { path: { id } }, body: deed }));
    await apps.refetch();
  });
  const named = (app: string, version?: string) =>
    builds.find((b) => b.app_id === app && String(b.version_code) === version) ?? builds.find((b) => b.app_id === app);
  return (
    <Section aria-label="Apps">
      {apps.error && <Refused error={apps.error} />}
      {apps.data?.length === 0 && <Sub>No app is on it but those of its system.</Sub>}
      {!!apps.data?.length && (
        <Table label="Apps on the device" items={apps.data} id={(a) => a.app}
          columns={[
            { name: 'app', wide: true, show: (a) => named(a.app, a.version)?.label ?? a.app },
            { name: 'id', show: (a) => a.app },
            { name: 'version code', show: (a) => a.version },
            {
              name: 'what to do', show: (a) => (
                <Row $gap={4} style={{ flexWrap: 'nowrap' }}>
                  {(['launch', 'stop', 'clear', 'remove'] as const).map((d) => (
                    <Button key={d} $small isDisabled={act.busy} onPress={() => void act.run({ do: d, app: a.app })}
                      aria-label={`${words[d]}: ${a.app}`}>{words[d]}</Button>
                  ))}
                </Row>
              ),
            },
          ]}
        />
      )}
      <Row $gap={12} style={{ alignItems: 'flex-end' }}>
        <Select label="A build of the workspace" value={build} placeholder="choose a build" onChange={setBuild}
          options={builds.filter((b) => !b.page).map((b) => ({ id: b.ref, text: b.ref }))} />
        <Button isDisabled={!build || act.busy} onPress={() => void act.run({ do: 'install', build })}>Install build</Button>
        <Button onPress={() => void apps.refetch()} isDisabled={apps.isFetching}>Look again</Button>
        {act.busy && <span role="status">It is being done …</span>}
      </Row>
      {act.error !== undefined && <Refused error={act.error} />}
    </Section>
  );
}

const words = { launch: 'Launch', stop: 'Stop', clear: 'Clear data', remove: 'Remove' } as const;
