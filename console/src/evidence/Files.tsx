// What the attempt left, to look at and to take away.
import styled from 'styled-components';
import { artifactURL, base, type Attempt, type TimelineEvent } from '../data/api';
import { Table } from '../parts/Table';
import { Section, Sub } from '../parts/page';
import { c } from '../theme';
import { bytes, clock, many } from '../words';
import type { Cursor } from './cursor';

const Strip = styled.ul`
  display: flex; gap: 12px; overflow-x: auto; padding: 2px 2px 8px; height: 100%;
  button { all: unset; cursor: pointer; display: flex; flex-direction: column; gap: 4px; font-size: 12px; line-height: 16px; width: 92px; }
  button:focus-visible { outline: 2px solid ${c.lapis}; outline-offset: 1px; }
  button:hover img { border-color: ${c.lapis}; }
  img { height: 128px; width: 92px; object-fit: cover; object-position: top; border: 1px solid ${c.grout}; }
  span {
    overflow: hidden; text-overflow: ellipsis; overflow-wrap: anywhere;
    display: -webkit-box; -webkit-line-clamp: 2; -webkit-box-orient: vertical;
  }
`;

/** The screenshots in a row; one that is pressed moves the cursor there. */
export function Shots({ attempt, events, cursor }: { attempt: Attempt | undefined; events: TimelineEvent[]; cursor: Cursor }) {
  const shots = events.filter((e) => e.file && attempt?.artifacts.some((a) => a.name === e.file));
  if (shots.length === 0) return <Sub>No screenshots yet.</Sub>;
  return (
    <Strip aria-label="Screenshots">
      {shots.map((e) => {
        const a = attempt!.artifacts.find((x) => x.name === e.file)!;
        const about = e.kind === 'case' ? `${e.name} ${e.verdict}` : (e.name ?? '');
        return (
          <li key={e.seq}>
            <button type="button" onClick={() => cursor.move(e.at, 'shot', e.seq)} title={`${about}, at ${clock(e.at)}`}>
              <img src={artifactURL(a)} alt="" loading="lazy" />
              <span>{clock(e.at)} {about}</span>
            </button>
          </li>
        );
      })}
    </Strip>
  );
}

export function Files({ leg, attempt, session }: { leg: string; attempt: Attempt | undefined; session: boolean }) {
  const files = attempt?.artifacts ?? [];
  if (files.length === 0) return <Sub>No files yet.</Sub>;
  return (
    <Section>
      <Sub>
        <a href={`${base}/legs/${leg}/files`} download>
          All of them as one zip
        </a>{' '}
        ({many(files.length, 'file')}, {bytes(files.reduce((n, f) => n + f.size, 0))}), or from a terminal:{' '}
        <code>
          tessellant {session ? 'session' : 'leg'} fetch {leg} evidence/
        </code>
      </Sub>
      <Table
        label="Files"
        items={files}
        id={(f) => f.id}
        columns={[
          {
            name: 'file',
            wide: true,
            sort: (f) => f.name,
            show: (f) => (
              <a href={artifactURL(f)} download={f.name.replaceAll('/', '-')}>
                {f.name}
              </a>
            ),
          },
          { name: 'what', sort: (f) => f.kind, show: (f) => f.kind },
          { name: 'size', sort: (f) => f.size, show: (f) => bytes(f.size) },
        ]}
      />
    </Section>
  );
}
