// The screen of a held device: it takes mouse, fingers, wheel and keyboard, or is pointed at to find elements.
import {
  useCallback, useEffect, useRef, useState, type ClipboardEvent, type KeyboardEvent, type PointerEvent, type ReactNode,
} from 'react';
import { DropZone } from 'react-aria-components';
import styled from 'styled-components';
import type { LiveDone } from '../data/api';
import { Frames } from '../evidence/Glass';
import { Button, Choose } from '../parts/controls';
import { Row, Sub } from '../parts/page';
import { c } from '../theme';
import { many } from '../words';
import { Fingers, pasted, pressed, wheeled } from './fingers';
import type { Held } from './useLive';
import type { HeldScreen } from './useTree';

const Glass = styled(DropZone)`
  position: relative; outline: none; min-height: 120px; align-self: flex-start; max-width: 100%;
  canvas {
    display: block; max-width: 100%; max-height: max(380px, calc(100vh - 236px)); border: 1px solid ${c.grout};
    touch-action: none; background: ${c.hover};
  }
  canvas:focus-visible { outline: 2px solid ${c.lapis}; outline-offset: 1px; }
  &[data-drop-target]::after {
    content: 'Put the file on the device'; position: absolute; inset: 0; border: 3px dashed ${c.lapis}; background: ${c.veil};
    color: #FFFDF8; display: grid; place-items: center; font-size: 18px; text-align: center;
  }
`;
const Column = styled.div`display: flex; flex-direction: column; gap: 8px; min-width: 0;`;
const Beside = styled.div`display: flex; gap: 8px; align-items: flex-start;`;
const Keys = styled.div`display: flex; flex-direction: column; gap: 4px; flex: none;
  a { font-size: 13px; line-height: 24px; text-align: center; }
`;
const Told = styled.div`border-left: 3px solid ${c.failed}; background: ${c.panel}; padding: 4px 12px;`;

const wheelFinger = 9_999;
const wheelRest = 140; // ms without a turn: the finger lifts

const typedHere = ' What is typed here is typed on it; Escape is Back, Tab leads on.';

/** The buttons that a phone has. */
const buttons = [
  ['back', 'Back'], ['home', 'Home'], ['recent', 'Recent'], ['volume_down', 'Volume −'], ['volume_up', 'Volume +'], ['power', 'Power'],
] as const;

/** Sends moves once a picture of the browser's, and all else at once: in its order. */
function usePaced(send: Held['send']) {
  const latest = useRef<LiveDone>(undefined);
  const frame = useRef(0);
  const flush = () => {
    cancelAnimationFrame(frame.current);
    frame.current = 0;
    const done = latest.current;
    latest.current = undefined;
    if (done) send(done);
  };
  return {
    move: (done: LiveDone | undefined) => {
      if (!done) return;
      latest.current = done;
      frame.current ||= requestAnimationFrame(flush);
    },
    now: (done: LiveDone | undefined) => {
      if (!done) return;
      flush();
      send(done);
    },
  };
}

interface Props {
  live: Held;
  screen: HeldScreen;
  serial: string;
  may: boolean;
  onFile: (f: File) => void;
  children?: ReactNode; // below the device's keys
}

export function Screen({ live, screen, serial, may, onFile, children }: Props) {
  const [mode, setMode] = useState<'touch' | 'point'>('touch');
  const [fingers] = useState(() => new Fingers());
  const el = useRef<HTMLCanvasElement>(null);
  const { canvas } = live;
  const attach = useCallback((to: HTMLCanvasElement | null) => {
    el.current = to;
    canvas(to);
  }, [canvas]);
  const paced = usePaced(live.send);
  const mine = live.hand.mine && live.way === 'open';
  const touches = mode === 'touch' && mine;
  const place = (e: { clientX: number; clientY: number }) => {
    const r = el.current!.getBoundingClientRect();
    return [(e.clientX - r.left) / r.width, (e.clientY - r.top) / r.height] as const;
  };

  // A wheel is a finger that follows it; React's own listener could not keep the page from scrolling.
  const wheel = useRef<{ x: number; y: number; lift: ReturnType<typeof setTimeout> }>(undefined);
  const latest = useRef({ paced, touches });
  useEffect(() => void (latest.current = { paced, touches }));
  useEffect(() => {
    const canvas = el.current;
    if (!canvas) return;
    const turned = (e: WheelEvent) => {
      const { paced, touches } = latest.current;
      if (!touches || e.ctrlKey) return;
      e.preventDefault();
      const [x, y] = [e.offsetX / canvas.clientWidth, e.offsetY / canvas.clientHeight];
      const lift = () => {
        if (wheel.current) clearTimeout(wheel.current.lift);
        wheel.current = undefined;
        paced.now(fingers.lift(wheelFinger));
      };
      const by = wheeled(e.deltaY, e.deltaMode, canvas.clientHeight);
      if (wheel.current && (wheel.current.y - by < 0.02 || wheel.current.y - by > 0.98)) lift();
      if (!wheel.current) {
        paced.now(fingers.touch(wheelFinger, x, y, false));
        wheel.current = { x, y, lift: setTimeout(lift, wheelRest) };
      }
      const w = wheel.current;
      w.y = Math.max(0.02, Math.min(0.98, w.y - by));
      paced.move(fingers.move(wheelFinger, w.x, w.y));
      clearTimeout(w.lift);
      w.lift = setTimeout(lift, wheelRest);
    };
    canvas.addEventListener('wheel', turned, { passive: false });
    return () => canvas.removeEventListener('wheel', turned);
  }, [fingers]);

  const down = (e: PointerEvent<HTMLCanvasElement>) => {
    const [x, y] = place(e);
    if (mode === 'point') screen.choose(screen.under(x, y));
    if (!touches || e.button !== 0) return;
    e.currentTarget.setPointerCapture(e.pointerId);
    paced.now(fingers.touch(e.pointerId, x, y, e.ctrlKey || e.metaKey));
  };
  const moved = (e: PointerEvent<HTMLCanvasElement>) => {
    const [x, y] = place(e);
    if (mode === 'point') screen.setOver(screen.under(x, y));
    paced.move(fingers.move(e.pointerId, x, y));
  };
  const up = (e: PointerEvent<HTMLCanvasElement>) => paced.now(fingers.lift(e.pointerId));
  const key = (e: KeyboardEvent) => {
    const done = pressed(e.nativeEvent, screen.secret);
    if (!touches || !done) return;
    e.preventDefault();
    paced.now(done);
  };
  const paste = (e: ClipboardEvent) => {
    if (!touches) return;
    e.preventDefault();
    for (const done of pasted(e.clipboardData.getData('text'), screen.secret)) paced.now(done);
  };
  const marked = screen.nodes.filter((n, i) => n.found || i === screen.at || i === screen.over);
  return (
    <Column>
      {may && (
        <Row $gap={8}>
          <Choose label="What the mouse does" value={mode} onChange={(m) => setMode(m as typeof mode)}
            options={[{ id: 'touch', text: 'Touch it' }, { id: 'point', text: 'Point at elements' }]} />
          {live.way === 'open' && !live.hand.mine && (
            <Button $main $small onPress={() => live.send({ take: true })}>Take it in hand</Button>
          )}
        </Row>
      )}
      <Beside>
        <Glass aria-label={`Put a file on ${serial}`} isDisabled={!mine}
          onDrop={(e) => e.items.forEach((i) => { if (i.kind === 'file') void i.getFile().then(onFile); })}>
          <canvas
            ref={attach}
            width={360}
            height={640}
            tabIndex={0}
            // eslint-disable-next-line jsx-a11y/no-interactive-element-to-noninteractive-role -- it is operated by itself
            role="application"
            aria-label={`The screen of ${serial}, now.${touches ? typedHere : ''}`}
            style={{ cursor: mode === 'point' ? 'crosshair' : touches ? 'pointer' : 'default' }}
            onPointerDown={down}
            onPointerMove={moved}
            onPointerUp={up}
            onPointerCancel={up}
            onPointerLeave={() => screen.setOver(undefined)}
            onKeyDown={key}
            onPaste={paste}
            onContextMenu={(e) => e.preventDefault()}
          />
          {screen.size.w > 0 && <Frames nodes={marked} {...screen.size} />}
        </Glass>
        {may && (
          <Keys>
            {buttons.map(([k, name]) => (
              <Button key={k} $small isDisabled={!mine} onPress={() => live.send({ keys: [k] })}>{name}</Button>
            ))}
            {children}
          </Keys>
        )}
      </Beside>
      <Sub role="status">{says(live, may)}</Sub>
      {live.problem && (
        <Told role="alert">
          It could not {live.problem.what}: {live.problem.why}{live.problem.remedy ? `; ${live.problem.remedy}` : ''}
        </Told>
      )}
    </Column>
  );
}

/** How it stands, in a line. */
function says(live: Held, may: boolean): string {
  if (live.way === 'opening') return 'The way to the device is being opened …';
  if (live.way === 'cut') return `The way to the device was cut${live.why ? ` (${live.why})` : ''}; it is opened again.`;
  if (live.way === 'over') return live.test ? 'The test has ended.' : 'The device is given back.';
  const pictures = { film: 'The device films its screen', single: 'Single pictures, up to four a second', none: 'No picture comes' };
  const picture = pictures[live.picture ?? 'none'];
  const slow = live.picture === 'film' && !!live.rate && live.rate < 2_000_000;
  const smaller = slow ? `, at ${(live.rate ?? 0) / 1000} kbit/s, as the way takes no more` : '';
  const others = live.watching > 1 ? ` ${many(live.watching - 1, 'other page')} of it ${live.watching === 2 ? 'is' : 'are'} open.` : '';
  const hand = live.hand.mine || !may ? '' : live.hand.name ? ` ${live.hand.name} has it in hand.` : ' Nobody has it in hand.';
  return `${picture}${smaller}.${hand}${others}`;
}
