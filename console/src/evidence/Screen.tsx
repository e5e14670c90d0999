// The device's screen: the video at the cursor; where a picture was kept of the row that was
// chosen, that picture, with what is in question outlined; of a leg that goes on, its newest picture.
import { useQuery } from '@tanstack/react-query';
import { useCallback, useEffect, useRef, useState, type ReactNode } from 'react';
import styled from 'styled-components';
import { artifactURL, base, type Artifact } from '../data/api';
import { Button, Choose, WithTip } from '../parts/controls';
import { Sub } from '../parts/page';
import { clock } from '../words';
import { useCursor, type Cursor } from './cursor';
import { Glass, Outlined } from './Glass';
import type { TreeNode } from './tree';

const Pane = styled.section`display: flex; flex-direction: column; gap: 8px; min-height: 0; min-width: 0;`;
const Bar = styled.div`
  display: flex; align-items: center; gap: 8px; flex-wrap: wrap; font-variant-numeric: tabular-nums; font-size: 13px; min-height: 28px;
`;

export const speeds = [0.25, 0.5, 1, 2, 4];
const names: Record<number, string> = { 0.25: '¼', 0.5: '½', 1: '1×', 2: '2×', 4: '4×' };

/** A picture that was kept of a moment, and the elements to outline on it. */
export interface KeptShot {
  shot: Artifact;
  what: string;
  outlined: TreeNode[];
}

interface Player {
  cursor: Cursor;
  playing: boolean;
  onPlaying: (p: boolean) => void;
  rate: number;
  onRate: (r: number) => void;
}

export function Screen(p: Player & { leg: string; live: boolean; video: Artifact | undefined; kept: KeptShot | undefined; what: string }) {
  const kept =
    p.kept && !p.playing ? (
      <Outlined key={p.kept.shot.id} src={artifactURL(p.kept.shot)} what={p.kept.what} nodes={p.kept.outlined} />
    ) : null;
  return (
    <Pane aria-label="Screen">
      {p.live ? (
        <Live leg={p.leg} what={p.what} />
      ) : p.video ? (
        <Video {...p} video={p.video}>
          {kept}
        </Video>
      ) : (
        <Glass>{kept ?? <Sub>No video was kept of this attempt.</Sub>}</Glass>
      )}
    </Pane>
  );
}

function Live({ leg, what }: { leg: string; what: string }) {
  const at = useQuery<number>({ queryKey: ['screenat', leg], queryFn: () => 0, staleTime: Infinity });
  const [failed, setFailed] = useState<number>(); // the picture that could not be had
  return (
    <>
      <Glass>
        {failed !== at.data ? (
          <img src={`${base}/legs/${leg}/screen?at=${at.data ?? 0}`} alt={`${what}, now`} onError={() => setFailed(at.data)} />
        ) : (
          <Sub>The screen appears when the device is being prepared.</Sub>
        )}
      </Glass>
      <Bar>live{at.data ? `, ${clock(at.data)}` : ''}</Bar>
    </>
  );
}

function Video({
  video,
  cursor,
  playing,
  onPlaying,
  rate,
  onRate,
  what,
  children,
}: Player & { video: Artifact; what: string; children: ReactNode }) {
  const ref = useRef<HTMLVideoElement>(null);
  const at = useCursor(cursor, (s) => Math.round(s.at));
  // Who moves the cursor moves the video; while it plays, it moves the cursor.
  const follow = useCallback(() => {
    const v = ref.current;
    if (v && cursor.state.by !== 'video') v.currentTime = cursor.state.at / 1000 + 0.0005; // inside the frame, not on its edge
  }, [cursor]);
  useEffect(() => cursor.subscribe(follow), [cursor, follow]);
  useEffect(() => {
    const v = ref.current;
    if (!v) return;
    v.playbackRate = rate;
    if (!playing) return v.pause();
    let over = false;
    void v.play().catch(() => onPlaying(false));
    const step = () => {
      if (over) return;
      if (!v.seeking) cursor.move(Math.round(v.currentTime * 1000), 'video');
      requestAnimationFrame(step);
    };
    requestAnimationFrame(step);
    return () => {
      over = true;
    };
  }, [playing, rate, cursor, onPlaying]);
  return (
    <>
      <Glass>
        <video
          ref={ref}
          src={artifactURL(video)}
          preload="auto"
          muted
          playsInline
          aria-label={`Video of ${what}`}
          onLoadedMetadata={follow}
          onEnded={() => onPlaying(false)}
          onClick={() => onPlaying(!playing)}
        />
        {children}
      </Glass>
      <Bar>
        <WithTip text="Space">
          <Button $small onPress={() => onPlaying(!playing)}>
            {playing ? 'Pause' : 'Play'}
          </Button>
        </WithTip>
        <Choose
          label="Speed"
          value={String(rate)}
          onChange={(r) => onRate(Number(r))}
          options={speeds.map((s) => ({ id: String(s), text: names[s]! }))}
        />
        <span data-at={at} title={children ? 'the screenshot that was kept of this moment' : 'the video at this moment'}>
          {clock(at)}
          {children ? ', kept' : ''}
        </span>
      </Bar>
    </>
  );
}
