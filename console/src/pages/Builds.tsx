// All builds, the newest first.
import { useBuilds, useMay } from '../data/queries';
import { useTopics } from '../data/tab';
import { Button } from '../parts/controls';
import { Table } from '../parts/Table';
import { Awaited, Empty, Head, Page, Refused, Row, Sub, Title, When } from '../parts/page';
import { bytes, many, runsOn } from '../words';
import { StartLink } from '../parts/StartLink';
import { AddPage } from '../builds/AddPage';
import { BuildIcon } from '../builds/BuildIcon';

export default function BuildsPage() {
  const builds = useBuilds();
  const mayUpload = useMay('upload');
  useTopics({ list: ['builds'] });
  const items = builds.data?.pages.flatMap((p) => p.items) ?? [];
  const apps = new Set(items.map((b) => b.app_id)).size;
  return (
    <Page>
      <Title>Builds</Title>
      <Head>
        <div>
          <h1>
            {items.length === 0
              ? 'Builds'
              : `${many(items.length, 'build')}${builds.hasNextPage ? ' and more' : ''} of ${many(apps, 'app')}.`}
          </h1>
          {mayUpload && <Sub>Drop an app file anywhere on the page to upload it.</Sub>}
        </div>
        <StartLink build={items[0]?.ref} />
      </Head>
      {builds.error && <Refused error={builds.error} />}
      {builds.isPending && <Awaited what="the builds" />}
      {builds.data && items.length === 0 && (
        <Empty title="No builds yet" command="tessellant build add app.apk">
          Drop an .apk or an .ipa here, or from a terminal:
        </Empty>
      )}
      {items.length > 0 && (
        <Table label="Builds" items={items} id={(b) => b.id} href={(b) => `/builds/${b.id}`}
          columns={[
            { name: 'app', wide: true, show: (b) => <Row><BuildIcon of={b} size={24} />{b.label}</Row> },
            { name: 'version', show: (b) => (b.page ? b.version_name : `${b.version_name} (${b.version_code})`) },
            { name: 'reference', show: (b) => b.ref },
            { name: 'runs on', show: runsOn },
            { name: 'size', show: (b) => bytes(b.size) },
            { name: 'added', show: (b) => <When at={b.created} /> },
          ]}
        />
      )}
      {mayUpload && builds.data && <AddPage />}
      {builds.hasNextPage && (
        <div>
          <Button onPress={() => void builds.fetchNextPage()} isDisabled={builds.isFetchingNextPage}>
            Show older builds
          </Button>
        </div>
      )}
    </Page>
  );
}
