// One build: what was read from the file, and the runs it took part in.
import type { ReactNode } from 'react';
import { useParams } from 'react-router';
import type { Build, IOSBuild, ProvisioningProfile } from '../data/api';
import { useBuild } from '../data/queries';
import { Loaded } from '../parts/Loaded';
import { Command, Facts, Findings, Head, Mono, Page, Ref, Row, Section, Sub, Title, When } from '../parts/page';
import { RunsOf } from '../parts/RunsOf';
import { StartLink } from '../parts/StartLink';
import { bytes, many, runsOn } from '../words';
import { BuildIcon } from '../builds/BuildIcon';

export default function BuildPage() {
  const { ref = '' } = useParams();
  const build = useBuild(ref);
  return <Loaded of={build} what="the build" page>{(b) => <One b={b} />}</Loaded>;
}

function One({ b }: { b: Build }) {
  return (
    <Page>
      <Title>{`${b.label} ${b.version_name}`}</Title>
      <Head>
        <Row $gap={16}>
          <BuildIcon of={b} size={56} alt={`Icon of ${b.label}`} />
          <div>
            <h1>
              {b.label} {b.version_name} runs on{' '}
              {b.min_code ? `the unreleased Android ${b.min_code}` : runsOn(b)}.
            </h1>
            <Sub>
              {b.filename}, {bytes(b.size)}, added <When at={b.created} />
            </Sub>
          </div>
        </Row>
        <StartLink build={b.ref} />
      </Head>
      {b.findings && (
        <Section aria-labelledby="found">
          <h2 id="found">{b.page ? 'Problems' : 'Problems when installing'}</h2>
          <Findings of={b.findings} />
        </Section>
      )}
      <Section aria-labelledby="facts">
        <h2 id="facts">{b.page ? 'The page' : 'Read from the file'}</h2>
        <Facts
          of={[
            ['reference', <Ref key="r">{b.ref}</Ref>],
            ['app id', <Mono key="a">{b.app_id}</Mono>],
            ['address', b.page && <Mono key="w">{b.page}</Mono>],
            ['version', b.page ? b.version_name : `${b.version_name}, ${b.ios ? `build ${b.ios.version}` : `code ${b.version_code}`}`],
            ...(b.page ? [] : b.ios ? iosFacts(b.ios) : androidFacts(b)),
            [
              'permissions',
              b.page ? undefined : b.permissions.length ? (
                <span key="p">
                  {many(b.permissions.length, 'permission')}:{' '}
                  <Mono>{b.permissions.map((p) => p.replace('android.permission.', '')).join(', ')}</Mono>
                </span>
              ) : (
                'none'
              ),
            ],
            ['debuggable', b.ios ?? b.page ? undefined : b.debuggable ? 'yes' : 'no'],
            ['SHA-256', <Ref key="s">{b.sha256}</Ref>],
            ['id', <Ref key="i">{b.id}</Ref>],
          ]}
        />
      </Section>
      <RunsOf filter={{ build: b.id }} none="No run has used this build yet." />
      <Section aria-labelledby="line"><h2 id="line">From a terminal</h2><Command>{`tessellant build show ${b.ref}`}</Command></Section>
    </Page>
  );
}

const androidFacts = (b: Build): [string, ReactNode][] => [
  ['Android', `made for ${b.target_code ?? `API ${b.target_api}`}, runs from ${b.min_code ?? `API ${b.min_api}`} on`],
  ['processors', b.abis.length ? b.abis.join(', ') : 'all: it has no native code'],
];

/** Whom a profile lets install the app. */
const lets = (p: ProvisioningProfile) =>
  ({ enterprise: 'every device', store: 'no device: the store signs it anew' })[p.kind as string] ??
  `the ${many(p.devices?.length ?? 0, 'device')} that it lists`;

const iosFacts = (x: IOSBuild): [string, ReactNode][] => [
  ['made for', x.families.map((f) => `${f}s`).join(' and ') + (x.simulator ? ', the simulator alone' : '')],
  ['profile', x.profile && `${x.profile.name}, of ${x.profile.team}; ${x.profile.kind}, good until ${x.profile.expires.slice(0, 10)}`],
  ['installs on', x.profile && lets(x.profile)],
  ['entitlements', x.profile?.entitlements && <Mono key="e">{x.profile.entitlements.join(', ')}</Mono>],
  ['signed by', x.signer && `${x.signer.name}, good until ${x.signer.expires.slice(0, 10)}`],
];
