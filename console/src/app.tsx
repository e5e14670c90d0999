// The frame around the pages: who is signed in, where one can go, files that are dropped.
import { useEffect, useState, type ComponentType } from 'react';
import { DropZone, FileTrigger, Menu, MenuItem, MenuTrigger, Popover, RouterProvider } from 'react-aria-components';
import { Link, matchPath, Route, Routes, useHref, useLocation, useNavigate } from 'react-router';
import styled from 'styled-components';
import { useAction } from './data/action';
import { answer, http, Refusal } from './data/api';
import { stream, useConnection, useNewer } from './data/tab';
import { client, expectLeg, expectMe, useMay, useMe } from './data/queries';
import { upload } from './data/upload';
import { Button } from './parts/controls';
import { Boundary, Newer, NotLoaded } from './parts/Loaded';
import { Awaited, Page, Refused } from './parts/page';
import { useArrival } from './parts/route';
import { Tile } from './parts/Tile';
import { Uploads } from './parts/Uploads';
import { SignIn } from './pages/SignIn';
import { zone } from './words';
import { c, lookChosen, narrow, radius, takeLook, unseen, type LookChoice } from './theme';

/** A page that is loaded when it is wanted. Without Suspense: React holds what follows a fallback back for 300 ms. */
function page(load: () => Promise<{ default: ComponentType }>) {
  let loaded: ComponentType | undefined;
  const Wanted = () => {
    const [Shown, setShown] = useState(() => loaded);
    const [failed, setFailed] = useState(false);
    useEffect(() => {
      if (Shown) return;
      let left = false;
      load().then((m) => left || setShown(() => (loaded = m.default)), () => left || setFailed(true));
      return () => void (left = true);
    }, [Shown]);
    if (failed) throw new NotLoaded();
    return Shown ? <Shown /> : <Page><Awaited what="the page" /></Page>;
  };
  return { Wanted, early: () => load().then((m) => void (loaded = m.default), () => undefined) }; // the page says it when it is wanted
}

const routes: [path: string, page: ReturnType<typeof page>][] = [
  ['/', page(() => import('./pages/Runs'))],
  ['/start', page(() => import('./pages/Start'))],
  ['/runs/:id', page(() => import('./pages/Run'))],
  ['/runs/:id/compare', page(() => import('./pages/Compare'))],
  ['/bisections/:id', page(() => import('./pages/Bisection'))],
  ['/legs/:id/compare', page(() => import('./pages/LegCompare'))],
  ['/references', page(() => import('./pages/References'))],
  ['/references/:id', page(() => import('./pages/Reference'))],
  ['/legs/:id/device', page(() => import('./pages/LegDevice'))],
  ['/legs/:id', page(() => import('./pages/Leg'))],
  ['/hands/:id', page(() => import('./pages/Hold'))],
  ['/sessions', page(() => import('./pages/Sessions'))],
  ['/sessions/:id', page(() => import('./pages/Leg'))],
  ['/builds', page(() => import('./pages/Builds'))],
  ['/builds/:ref', page(() => import('./pages/Build'))],
  ['/packages', page(() => import('./pages/Packages'))],
  ['/pools', page(() => import('./pages/Pools'))],
  ['/pools/:name', page(() => import('./pages/Pool'))],
  ['/packages/:ref', page(() => import('./pages/Package'))],
  ['/devices', page(() => import('./pages/Devices'))],
  ['/devices/:serial', page(() => import('./pages/Device'))],
  ['/cases', page(() => import('./pages/Case'))],
  ['/keys', page(() => import('./pages/Keys'))],
];

/** Loads what an address needs, before anything is drawn. */
export function loadEarly(pathname: string) {
  expectMe();
  void routes.find(([path]) => matchPath(path, pathname))?.[1].early();
  const leg = (matchPath('/legs/:id', pathname) ?? matchPath('/sessions/:id', pathname))?.params.id;
  if (leg) expectLeg(leg);
}

const Bar = styled.header`
  display: flex; align-items: center; gap: 4px 24px; padding: 0 24px; min-height: 48px; background: ${c.panel};
  border-bottom: 1px solid ${c.grout}; flex-wrap: wrap;
  ${narrow} { padding: 4px 12px; gap: 0 12px; }
`;
const Name = styled(
  Link,
)`display: flex; align-items: center; gap: 8px; color: ${c.ink}; font-weight: 640; &:hover { text-decoration: none; }`;
const Sign = styled.span`display: grid; grid-template-columns: 8px 8px; gap: 2px;`;
const Nav = styled.nav`
  display: flex; gap: 20px; flex: 1; flex-wrap: wrap;
  ${narrow} { order: 3; flex-basis: 100%; gap: 14px; }
  a { color: ${c.faint}; padding: 13px 0 11px; border-bottom: 2px solid transparent; }
  a:hover { color: ${c.ink}; text-decoration: none; }
  a[aria-current='page'] { color: ${c.ink}; border-color: ${c.lapis}; font-weight: 560; }
  ${narrow} { a { padding: 8px 0 6px; } }
`;
const Here = styled.div`outline: none;`;
const Skip = styled.a`${unseen} &:focus { position: static; width: auto; height: auto; clip-path: none; }`;
const Lost = styled.p`background: ${c.panel}; border-left: 8px solid ${c.flaky}; border-bottom: 1px solid ${c.grout}; padding: 4px 16px;`;
const Sheet = styled(
  Popover,
)`
  background: ${c.panel}; border: 1px solid ${c.grout}; border-radius: ${radius}; box-shadow: 0 8px 24px ${c.veil}; padding: 4px;
  min-width: 200px;
`;
const Items = styled(Menu)`outline: none;`;
const Item = styled(MenuItem)`
  padding: 4px 12px; cursor: pointer; outline: none; border-radius: ${radius};
  &[data-focused] { background: ${c.hover}; }
  &[data-disabled] { color: ${c.faint}; cursor: default; border-bottom: 1px solid ${c.grout}; }
`;
const Drop = styled(DropZone)`
  min-height: 100vh; outline: none; position: relative;
  &[data-drop-target]::after {
    content: 'Drop a build (.apk, .ipa) or a test package (.zip)'; position: fixed; inset: 8px; border: 3px dashed ${c.lapis};
    background: ${c.veil}; color: #FFFDF8; display: grid; place-items: center; font-size: 22px; z-index: 50;
  }
`;

const looks: Record<LookChoice, string> = { system: 'Look: as the system', light: 'Look: light', dark: 'Look: dark' };
const places = [
  ['/', 'Runs'],
  ['/sessions', 'Sessions'],
  ['/builds', 'Builds'],
  ['/packages', 'Packages'],
  ['/devices', 'Devices'],
] as const;

/** The pages below a place. */
function below(to: string): RegExp {
  if (to === '/') return /^\/($|runs|legs|start)/;
  return to === '/devices' ? /^\/(devices|pools|hands)/ : new RegExp('^' + to);
}

export function App() {
  const navigate = useNavigate();
  const me = useMe();
  const mayUpload = useMay('upload');
  const { pathname } = useLocation();
  useArrival('page');
  const out = useAction(async () => {
    await answer(http.DELETE('/signin'));
    stream.stop();
    client.clear();
    location.assign('/');
  });
  const signedIn = me.data !== undefined;
  useEffect(() => {
    if (!signedIn) return;
    stream.start();
    return () => stream.stop();
  }, [signedIn]);
  const denied = me.error instanceof Refusal && me.error.status === 401;
  if (denied || pathname === '/signin') return <SignIn denied={denied} known={!me.isPending} workspace={me.data?.workspace} />;
  if (me.error) {
    return (
      <Page>
        <Refused page error={me.error}>
          <Button onPress={() => void me.refetch()}>Try again</Button>
        </Refused>
      </Page>
    );
  }
  if (!me.data) return <Page><Awaited what="the service" /></Page>;
  return (
    <RouterProvider navigate={(to) => void navigate(to)} useHref={useHref}>
      <Drop
        aria-label="Drop a build or a test package anywhere"
        isDisabled={!mayUpload}
        onDrop={(e) =>
          e.items.forEach((i) => {
            if (i.kind === 'file') void i.getFile().then(upload);
          })
        }
      >
        <Skip
          href="#page"
          onClick={(e) => {
            e.preventDefault();
            document.getElementById('page')?.focus();
          }}
        >
          To the page
        </Skip>
        <Bar>
          <Name to="/">
            <Sign aria-hidden>
              <Tile what="passed" size={8} />
              <Tile what="failed" size={8} />
              <Tile what="crashed" size={8} />
              <Tile what="passed" size={8} />
            </Sign>
            Tessellant
          </Name>
          <Nav aria-label="Pages">
            {places.map(([to, name]) => (
              <Link
                key={to}
                to={to}
                aria-current={below(to).test(pathname) ? 'page' : undefined}
              >
                {name}
              </Link>
            ))}
          </Nav>
          {mayUpload && (
            <FileTrigger
              acceptedFileTypes={['.apk', '.ipa', '.zip']}
              allowsMultiple
              onSelect={(files) => [...(files ?? [])].forEach(upload)}
            >
              <Button>Upload</Button>
            </FileTrigger>
          )}
          <MenuTrigger>
            <Button aria-label={`Workspace ${me.data.workspace}: menu`}>{me.data.workspace} <span aria-hidden>▾</span></Button>
            <Sheet>
              <Items
                onAction={(k) => {
                  if (k === 'out') void out.run();
                  else if (k === 'keys') void navigate('/keys');
                  else if (k === 'references') void navigate('/references');
                  else if (k === 'backup') location.assign('/api/v1/backup');
                  else takeLook(k as LookChoice);
                }}
                disabledKeys={['who']}
                selectionMode="none"
              >
                <Item id="who">
                  {me.data.key}: {me.data.role}, version {me.data.version}, times in {zone()}
                </Item>
                {(Object.keys(looks) as LookChoice[]).map((l) => (
                  <Item key={l} id={l}>
                    {looks[l] + (l === lookChosen() ? ' ✓' : '')}
                  </Item>
                ))}
                <Item id="references">References of steps</Item>
                {me.data.may.includes('keys') && <Item id="keys">Keys</Item>}
                {me.data.may.includes('installation') && <Item id="backup">Download a backup</Item>}
                <Item id="out">Sign out</Item>
              </Items>
            </Sheet>
          </MenuTrigger>
        </Bar>
        {out.error !== undefined && <Refused error={out.error} />}
        <ConnectionLost />
        <Here id="page" tabIndex={-1}>
          <Boundary key={pathname}>
            <Routes>
              {routes.map(([path, { Wanted }]) => (
                <Route key={path} path={path} element={<Wanted />} />
              ))}
              <Route
                path="*"
                element={
                  <Page>
                    <Refused
                      page
                      error={
                        new Refusal({
                          type: 'about:blank',
                          status: 404,
                          title: `There is no page ${pathname}`,
                          remedy: 'Go on from one of the pages above.',
                        })
                      }
                    />
                  </Page>
                }
              />
            </Routes>
          </Boundary>
        </Here>
        <Uploads />
      </Drop>
    </RouterProvider>
  );
}

function ConnectionLost() {
  const lost = useConnection() === 'lost';
  const newer = useNewer();
  return (
    <>
      <div role="status">
        {lost && <Lost>The connection to the service is lost. This page may be out of date. It reconnects by itself.</Lost>}
      </div>
      {newer && (
        <Lost as="div">
          <Newer what="The service was updated. This page is of the version before." />
        </Lost>
      )}
    </>
  );
}
