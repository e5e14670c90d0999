// Sessions: those that clients opened from outside, and the program with which one begins.
import styled from 'styled-components';
import type { Session } from '../data/api';
import { useBuilds, useSessions, useSnippet } from '../data/queries';
import { useTopics } from '../data/tab';
import { oneOf, text, useView } from '../parts/address';
import { Button, Select, TextField } from '../parts/controls';
import { Awaited, Command, CopyButton, Head, Page, Refused, Row, Section, Sub, Title } from '../parts/page';
import { c, mono, radius } from '../theme';
import { SessionList } from '../sessions/SessionList';
import { many } from '../words';
import { patterns } from '../form/patterns';

const Program = styled.pre`
  font-family: ${mono}; font-size: 12.5px; line-height: 18px; background: ${c.panel}; border: 1px solid ${c.grout};
  border-radius: ${radius}; padding: 12px; overflow: auto; max-height: 420px; margin: 0; font-variant-ligatures: none;
`;

const languages = [
  ['shell', 'Shell'],
  ['python', 'Python'],
  ['node', 'Node.js'],
  ['go', 'Go'],
  ['java', 'Java'],
] as const;
const parts = {
  group: text(),
  language: oneOf(
    languages.map(([id]) => id),
    'python',
  ),
  build: text('newest'),
  where: text('platform=android'),
};

export default function SessionsPage() {
  const [{ group }, setView] = useView(parts);
  useTopics({ list: ['sessions', 'builds', 'devices'] });
  const sessions = useSessions(group);
  const items = sessions.data?.pages.flatMap((p) => p.items) ?? [];
  const first = sessions.data?.pages[0];
  const groups = [...new Set(items.map((s) => s.group).filter(Boolean))].sort();
  if (group && !groups.includes(group)) groups.push(group);
  const pick = (g: string) => setView({ group: g }, 'step');
  return (
    <Page>
      <Title>Sessions</Title>
      <Head>
        <div>
          <h1>{first ? sentence(items, first.open, first.waiting) : 'Sessions'}</h1>
          <Sub>
            Any W3C WebDriver client can open one at <code>{location.origin}/webdriver</code>. A session leaves the same evidence as a leg
            of a run.
          </Sub>
        </div>
      </Head>
      {sessions.error && <Refused error={sessions.error} />}
      {sessions.isPending && <Awaited what="the sessions" />}
      {(groups.length > 0) && (
        <Row>
          <Select
            label="Group"
            hideLabel
            value={group}
            placeholder="any group"
            onChange={pick}
            options={[{ id: '', text: 'any group' }, ...groups.map((g) => ({ id: g, text: g }))]}
          />
          {group && <Button onPress={() => pick('')}>Show all</Button>}
        </Row>
      )}
      {first && items.length === 0 && (
        <Sub>{group ? 'No session of this group.' : 'There are no sessions yet. The program below opens one.'}</Sub>
      )}
      {items.length > 0 && <SessionList items={items} />}
      {sessions.hasNextPage && (
        <div>
          <Button onPress={() => void sessions.fetchNextPage()} isDisabled={sessions.isFetchingNextPage}>
            Show older sessions
          </Button>
        </div>
      )}
      <Beginning />
    </Page>
  );
}

function sentence(items: Session[], open: number, waiting: number): string {
  if (open || waiting)
    return `${many(open, 'session is', 'sessions are')} open${waiting ? `, and ${many(waiting, 'waits', 'wait')} for a device` : ''}.`;
  const newest = items[0];
  return newest
    ? `No session is open; the newest ${newest.verdict ?? 'ended'}${newest.inferred ? ', as far as can be seen' : ''}.`
    : 'No session has been opened yet.';
}

/** The program with which a test from outside begins: language × devices → a text that works when pasted. */
function Beginning() {
  const builds = useBuilds().data?.pages.flatMap((p) => p.items) ?? [];
  const [{ language, build, where }, setView] = useView(parts);
  const refs = [...new Set(builds.map((b) => b.ref))];
  const chosen = build === 'newest' ? (refs[0] ?? '') : build === 'none' ? '' : build;
  const program = useSnippet(language, { build: chosen, where: patterns(where) });
  return (
    <Section aria-labelledby="begin">
      <h2 id="begin">Open a session from your machine</h2>
      <Row>
        <Select
          label="Language"
          value={language}
          onChange={(v) => setView({ language: v as typeof language })}
          options={languages.map(([id, text]) => ({ id, text }))}
        />
        <Select
          label="Build"
          value={chosen || 'none'}
          onChange={(v) => setView({ build: v })}
          options={[...refs.map((r) => ({ id: r, text: r })), { id: 'none', text: 'none: the device as it is' }]}
        />
        <div style={{ flex: 1, minWidth: 240 }}>
          <TextField label="Devices: patterns over traits" mono value={where} onChange={(v) => setView({ where: v })} />
        </div>
      </Row>
      {program.error && <Refused error={program.error} />}
      {program.data && (
        <>
          <Sub>
            {program.data.devices === 0
              ? 'No device here matches.'
              : `${many(program.data.devices, 'device')} here ${program.data.devices === 1 ? 'matches' : 'match'}.`}{' '}
            Save it as <code>{program.data.file}</code>, put your key into TESSELLANT_KEY, and run it:
          </Sub>
          <Row>
            <Command>{program.data.run}</Command>
            <CopyButton text={program.data.program} what="the program" label="Copy the program" />
          </Row>
          <Program tabIndex={0} aria-label={program.data.file}>
            {program.data.program}
          </Program>
        </>
      )}
    </Section>
  );
}
