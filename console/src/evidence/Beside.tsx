// Of a case that failed here: the same moment on a device on which it passed.
import { useRef } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import { artifactURL, type LegSummary, type TimelineEvent } from '../data/api';
import { useLeg, useTimeline } from '../data/queries';
import { Sub } from '../parts/page';
import { c } from '../theme';
import { clock, unit } from '../words';
import { artifactOf } from './moments';
import { sameMoment } from './twin';

const Figure = styled.figure`
  display: grid; grid-template-columns: 112px minmax(0, 1fr); gap: 12px; align-items: start;
  video { width: 112px; border: 1px solid ${c.grout}; background: ${c.plaster}; display: block; }
`;

export function Beside({ own, twin, name, at, events }: {
  own: string; // the leg itself
  twin: LegSummary;
  name: string;
  at: number;
  events: TimelineEvent[];
}) {
  const leg = useLeg(twin.id);
  const last = leg.data?.attempts.at(-1);
  const timeline = useTimeline(twin.id, last?.number);
  const film = useRef<HTMLVideoElement>(null);
  const video = artifactOf(last, 'video');
  if (!timeline.data) return null;
  const there = sameMoment(events, at, timeline.data.events, name);
  if (there === undefined) return null;
  const to = `/legs/${twin.id}?at=${there}`;
  return (
    <Figure aria-label="The same moment on a device that passed">
      {video ? (
        <Link to={to} aria-label={`Open ${unit(twin)} at ${clock(there)}`}>
          <video
            key={there}
            ref={film}
            src={artifactURL(video)}
            muted
            playsInline
            preload="auto"
            onLoadedMetadata={() => film.current && (film.current.currentTime = there / 1000 + 0.0005)}
          />
        </Link>
      ) : (
        <span />
      )}
      <Sub>
        The same moment on <Link to={to}>{unit(twin)}</Link> ({twin.model}, {twin.system}), where this case passed.{' '}
        <Link to={`/legs/${own}/compare?${new URLSearchParams({ with: twin.id, case: name })}`}>Step by step beside it</Link>
      </Sub>
    </Figure>
  );
}
