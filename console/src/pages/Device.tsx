// One device: what it is, who holds it, how its legs came out.
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { useAction } from '../data/action';
import { answer, http, type Device } from '../data/api';
import { client, useMay, useDevice, useDeviceLegs, useDeviceSessions, useHolds } from '../data/queries';
import { useTopics } from '../data/tab';
import { Button, TextField } from '../parts/controls';
import { State } from '../parts/DeviceTiles';
import { Loaded } from '../parts/Loaded';
import { Table } from '../parts/Table';
import { Command, Facts, Head, Page, Ref, Refused, Row, Section, Simulated, Sub, Title, When } from '../parts/page';
import { VerdictWord } from '../parts/Tile';
import { capital, cases, many, stageText, standing, took, systemOf, widthOf } from '../words';
import Check from '../devices/Check';
import { HoldIt, HoldList } from '../hands/Holds';
import { SessionList } from '../sessions/SessionList';

export default function DevicePage() {
  const { serial = '' } = useParams();
  useTopics({ list: ['devices', 'sessions', 'runs'] });
  return <Loaded of={useDevice(serial)} what="the device" page>{(d) => <One d={d} />}</Loaded>;
}

function One({ d }: { d: Device }) {
  const legs = useDeviceLegs(d.serial);
  const sessions = useDeviceSessions(d.serial);
  const holds = useHolds({ device: d.serial });
  return (
    <Page>
      <Title>{d.serial}</Title>
      <Head>
        <div>
          <h1>{d.serial}, {d.maker} {d.model}, is {d.state}.</h1>
          <Sub>
            {d.held_by ? (
              <>
                {d.held_by.run ? (
                  <>
                    A <Link to={`/legs/${d.held_by.leg}`}>leg</Link> of this <Link to={`/runs/${d.held_by.run}`}>run</Link>
                  </>
                ) : d.held_by.by_hand ? (
                  <>
                    <Link to={`/hands/${d.held_by.leg}`}>Somebody</Link>
                  </>
                ) : (
                  <>
                    A <Link to={`/sessions/${d.held_by.leg}`}>session</Link>
                  </>
                )}{' '}
                holds it since <When at={d.held_by.since} />.
              </>
            ) : d.state === 'held' ? (
              'Another workspace holds it.'
            ) : (
              (d.why ??
              (d.state === 'away' ? (
                <>
                  Last seen <When at={d.seen} />.
                </>
              ) : (
                <>The host {d.host} sees it.</>
              )))
            )}
          </Sub>
        </div>
        {d.simulated && <Simulated>simulated: a stand-in that ships with Tessellant</Simulated>}
      </Head>
      <HoldIt serial={d.serial} busy={d.state === 'held'} />
      <Care d={d} />
      {d.limits && (
        <Section aria-labelledby="limits">
          <h2 id="limits">{d.lent ? 'What its lab does not give' : 'What its maker forbids'}</h2>
          {d.limits.map((l) => <p key={l}>{capital(l)}.</p>)}
        </Section>
      )}
      {!d.lent && <Check d={d} />}
      <Section aria-labelledby="facts">
        <h2 id="facts">Facts</h2>
        <Facts
          of={[
            ['state', <State key="s" of={d.state} />],
            ['host', d.host],
            ['lab', d.lent ? `${d.lab}: it lends the device for each piece of work` : undefined],
            ['identifier', d.udid && <Ref key="u">{d.udid}</Ref>],
            ['serial', <Ref key="r">{d.serial}</Ref>],
            ['origin', `${d.origin} ${d.form}${d.startable ? ', started when it is wanted' : ''}`],
            ['system', systemOf(d)],
            ['screen', `${d.width} × ${d.height}, ${d.density} dpi, ${widthOf(d)} wide`],
            ['memory', d.memory_mb ? `${d.memory_mb} MB` : undefined],
            ['processors', d.abis.join(', ')],
            ['language', d.language],
            ['labels', Object.entries(d.labels ?? {}).map(([k, v]) => `${k}=${v}`).join(' ')],
            ['place', d.place],
            ['without', d.without?.join(', ')],
            ['connected by', d.ways ? `${d.ways.join(', ')}; the first is used` : undefined],
            ['lost in a row', d.lost_in_row ? many(d.lost_in_row, 'attempt') : undefined],
          ]}
        />
      </Section>
      <Section aria-labelledby="legs">
        <h2 id="legs">Its newest results</h2>
        {legs.error && <Refused error={legs.error} />}
        {legs.data?.items.length === 0 && <Sub>It has taken part in no run of this workspace yet.</Sub>}
        {(legs.data?.items.length ?? 0) > 0 && (
          <Table label="Legs" items={legs.data!.items} id={(l) => l.id} href={(l) => `/legs/${l.id}`}
            columns={[
              { name: 'verdict', show: (l) => <VerdictWord what={standing(l)}>{stageText(l)}</VerdictWord> },
              { name: 'cases', show: (l) => cases(l) },
              { name: 'what happened', wide: true, show: (l) => l.message },
              { name: 'when', show: (l) => <When at={l.created} /> },
              { name: 'took', show: (l) => (l.started && l.ended ? took(Date.parse(l.ended) - Date.parse(l.started)) : '') },
            ]}
          />
        )}
      </Section>
      {sessions.error && <Refused error={sessions.error} />}
      {(sessions.data?.items.length ?? 0) > 0 && (
        <Section aria-labelledby="sessions">
          <h2 id="sessions">Its newest sessions from outside</h2>
          <SessionList items={sessions.data!.items} />
        </Section>
      )}
      {(holds.data?.length ?? 0) > 0 && (
        <Section aria-labelledby="held">
          <h2 id="held">Who held it by hand</h2>
          <HoldList items={holds.data!} />
        </Section>
      )}
      <Section aria-labelledby="only">
        <h2 id="only">Run on it alone</h2>
        <Row>
          <Command>{`tessellant run start --build REF --package REF --device ${d.serial} --watch`}</Command>
        </Row>
      </Section>
    </Page>
  );
}

/** Takes the device out of work, and lets it have some again. */
function Care({ d }: { d: Device }) {
  const [why, setWhy] = useState<string>();
  const [freeing, setFreeing] = useState(false);
  const [tests, cares] = [useMay('test'), useMay('devices')];
  const mayFree = d.held_by ? tests : cares && d.state === 'held';
  const path = { params: { path: { serial: d.serial } } };
  const { run: take, busy, error } = useAction(async (ask: () => Promise<Device>) => {
    client.setQueryData(['device', d.serial], await ask());
    void client.invalidateQueries({ queryKey: ['devices'] });
    setWhy(undefined);
    setFreeing(false);
  });
  return (
    <Section aria-label="Care">
      {error !== undefined && <Refused error={error} />}
      {d.quarantined && (
        <Row $gap={12}>
          <Sub>
            In quarantine since <When at={d.quarantined} />
            {d.quarantined_by === 'itself' ? ', by itself; a check that it passes releases it' : ', by hand'}
            {d.state === 'held' ? '; the leg that it is at work on is finished' : ''}.
          </Sub>
          {cares && (
            <Button isDisabled={busy} onPress={() => void take(() => answer(http.DELETE('/devices/{serial}/quarantine', path)))}>
              Release device
            </Button>
          )}
        </Row>
      )}
      {d.overdue && (
        <Sub>It has been held for longer than its work can take. Free it if you do not need that work.</Sub>
      )}
      {mayFree && !freeing && <Row><Button onPress={() => setFreeing(true)}>Free the device …</Button></Row>}
      {d.state === 'held' && freeing && (
        <Row $gap={12}>
          <Sub>
            The {d.held_by ? (d.held_by.run ? 'leg' : d.held_by.by_hand ? 'hold' : 'session') : 'work of another workspace'} on it
            is stopped at once. What was uploaded so far is kept.
          </Sub>
          <Button $main isDisabled={busy} onPress={() => void take(() => answer(http.DELETE('/devices/{serial}/hold', path)))}>
            Free device
          </Button>
          <Button onPress={() => setFreeing(false)}>Cancel</Button>
        </Row>
      )}
      {cares && !d.quarantined && why === undefined && <Row><Button onPress={() => setWhy('')}>Quarantine …</Button></Row>}
      {why !== undefined && !d.quarantined && (
        <Row $gap={12} style={{ alignItems: 'flex-end' }}>
          <div style={{ flex: 1, maxWidth: 480 }}>
            <TextField label="What is wrong with it? Others will read this" autoFocus value={why} onChange={setWhy} />
          </div>
          <Button
            $main
            isDisabled={!why.trim() || busy}
            onPress={() => void take(() => answer(http.PUT('/devices/{serial}/quarantine', { ...path, body: { why } })))}
          >
            Quarantine device
          </Button>
          <Button onPress={() => setWhy(undefined)}>Cancel</Button>
        </Row>
      )}
    </Section>
  );
}
