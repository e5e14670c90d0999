// The references of steps: pictures that later ones are held against, per kind of device.
import styled from 'styled-components';
import { base, type Reference } from '../data/api';
import { useReferences } from '../data/steps';
import { Button } from '../parts/controls';
import { Loaded } from '../parts/Loaded';
import { Empty, Head, Page, Sub, Title, When } from '../parts/page';
import { Pictured } from '../parts/Pictured';
import { Table } from '../parts/Table';
import { many } from '../words';

const Thumb = styled.span`display: inline-block; width: 28px; vertical-align: middle; max-height: 60px; overflow: hidden;`;

export default function ReferencesPage() {
  const all = useReferences();
  return (
    <Page>
      <Title>References</Title>
      <Head>
        <div>
          <h1>References</h1>
          <Sub>
            A script that says <code>phone.step("review", like_reference = True)</code> fails where the picture of the step differs from its
            reference. Each is for one kind of device: model, system, screen and language.
          </Sub>
        </div>
      </Head>
      <Loaded of={all} what="the references">
        {(pages) => {
          const items = pages.pages.flatMap((p) => p.items);
          if (items.length === 0)
            return (
              <Empty title="There are no references" command="tessellant reference keep newest review">
                Keep one from the steps of a run, there or with:
              </Empty>
            );
          return (
            <>
              <Table<Reference>
                label="References"
                items={items}
                id={(r) => r.id}
                href={(r) => `/references/${r.id}`}
                columns={[
                  { name: 'step', wide: true, show: (r) => `${r.step}${r.nth > 1 ? ` (${r.nth})` : ''} in ${r.case}` },
                  { name: 'picture', show: (r) => <Thumb><Pictured src={`${base}/references/${r.id}/picture`} alt="" /></Thumb> },
                  { name: 'kind of device', wide: true, show: (r) => r.kind },
                  { name: 'masks', show: (r) => (r.masks.length > 0 ? many(r.masks.length, 'mask') : '') },
                  { name: 'may differ', show: (r) => `${Number((100 * r.allowed).toPrecision(3))} %` },
                  { name: 'kept', show: (r) => <When at={r.created} /> },
                ]}
              />
              {all.hasNextPage && <Button isDisabled={all.isFetchingNextPage} onPress={() => void all.fetchNextPage()}>Show more</Button>}
            </>
          );
        }}
      </Loaded>
    </Page>
  );
}
