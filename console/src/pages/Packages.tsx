// All test packages, the newest revision first.
import { useMay, usePackages } from '../data/queries';
import { useTopics } from '../data/tab';
import { Button } from '../parts/controls';
import { Table } from '../parts/Table';
import { Awaited, Empty, Head, Page, Refused, Sub, Title, When } from '../parts/page';
import { StartLink } from '../parts/StartLink';
import { bytes, many } from '../words';

export default function PackagesPage() {
  const packages = usePackages();
  const mayUpload = useMay('upload');
  useTopics({ list: ['packages'] });
  const items = packages.data?.pages.flatMap((p) => p.items) ?? [];
  const names = new Set(items.map((p) => p.name)).size;
  return (
    <Page>
      <Title>Packages</Title>
      <Head>
        <div>
          <h1>
            {items.length === 0
              ? 'Packages'
              : `${many(items.length, 'revision')}${packages.hasNextPage ? ' and more' : ''} of ${many(names, 'test package')}.`}
          </h1>
          {mayUpload && <Sub>Drop a package, packed as a .zip with tessellant.yaml at its root, anywhere on the page to upload it.</Sub>}
        </div>
        <StartLink pkg={items[0]?.ref} />
      </Head>
      {packages.error && <Refused error={packages.error} />}
      {packages.isPending && <Awaited what="the packages" />}
      {packages.data && items.length === 0 && (
        <Empty title="No packages yet" command={'tessellant package new my-tests\ntessellant package add my-tests/'}>
          Drop a .zip here, or from a terminal:
        </Empty>
      )}
      {items.length > 0 && (
        <Table label="Packages" items={items} id={(p) => p.id} href={(p) => `/packages/${p.id}`}
          columns={[
            { name: 'package', show: (p) => p.ref },
            { name: 'about', wide: true, show: (p) => p.about },
            { name: 'kind', show: (p) => p.kind },
            { name: 'cases', show: (p) => p.cases.length },
            { name: 'findings', show: (p) => p.findings.length || 'none' },
            { name: 'size', show: (p) => bytes(p.size) },
            { name: 'uploaded', show: (p) => <When at={p.created} /> },
          ]}
        />
      )}
      {packages.hasNextPage && (
        <div>
          <Button onPress={() => void packages.fetchNextPage()} isDisabled={packages.isFetchingNextPage}>
            Show older packages
          </Button>
        </div>
      )}
    </Page>
  );
}
