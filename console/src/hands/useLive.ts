// A held device as a page has it: what it is told, what it says, and the picture on its canvas.
import { useCallback, useEffect, useRef, useState } from 'react';
import { base, type LiveDone, type LiveTold } from '../data/api';
import { Live, type Way } from './live';
import { Painter, showsFilms } from './painter';

type Problem = NonNullable<LiveTold['problem']>;

export interface Held {
  way: Way;
  why: string; // it was cut
  hand: NonNullable<LiveTold['hand']>;
  screen: [number, number] | undefined;
  picture: LiveTold['picture'];
  rate: number | undefined;
  watching: number;
  routes: NonNullable<LiveTold['routes']>;
  test: LiveTold['test']; // undefined: a person holds the device
  problem: Problem | undefined;
  painted: number; // counts the times at which the screen had come to rest
  canvas: (el: HTMLCanvasElement | null) => void;
  send: (done: LiveDone) => boolean;
}

const none: never[] = [];
const rest = 150; // ms without a new picture: the screen has come to rest
const problemShown = 12_000; // ms
const unseenFor = 20_000; // ms that a page is not seen before it wants no more pictures

export function useLive(id: string): Held {
  const [way, setWay] = useState<[Way, string]>(['opening', '']);
  const [told, setTold] = useState<LiveTold>({});
  const [problem, setProblem] = useState<Problem>();
  const [painted, setPainted] = useState(0);
  const [el, setEl] = useState<HTMLCanvasElement | null>(null);
  const live = useRef<Live>(undefined);
  useEffect(() => {
    if (!el) return;
    let resting: ReturnType<typeof setTimeout> | undefined;
    let fading: ReturnType<typeof setTimeout> | undefined;
    const painter = new Painter(el, {
      painted: () => {
        clearTimeout(resting);
        resting = setTimeout(() => setPainted((n) => n + 1), rest);
      },
      stuck: () => {
        live.current?.shows('none');
        live.current?.shows('film');
      },
      unable: () => live.current?.shows('single'),
    });
    const wanted = () => (showsFilms() ? 'film' : 'single');
    const url = `${location.protocol.replace('http', 'ws')}//${location.host}${base}/hands/${id}/watch`;
    const way = new Live(() => new WebSocket(url), {
      way: (w, why) => setWay([w, why]),
      told: (t) => {
        if (t.screen) painter.holds(t.screen[0]!, t.screen[1]!);
        if (t.problem) {
          setProblem(t.problem);
          clearTimeout(fading);
          fading = setTimeout(() => setProblem(undefined), problemShown);
        }
        setTold((old) => ({ ...old, ...t }));
      },
      record: (b) => painter.begin(b),
      film: (key, at, units) => painter.film(key, at, units),
      single: (b) => void painter.single(b),
    });
    live.current = way;
    if (wanted() !== 'film') way.shows(wanted());
    // A page that nobody sees asks for no pictures.
    let unseen: ReturnType<typeof setTimeout> | undefined;
    const seen = () => {
      clearTimeout(unseen);
      if (document.hidden) unseen = setTimeout(() => way.shows('none'), unseenFor);
      else way.shows(wanted());
    };
    document.addEventListener('visibilitychange', seen);
    return () => {
      document.removeEventListener('visibilitychange', seen);
      for (const t of [unseen, resting, fading]) clearTimeout(t);
      way.close();
      painter.close();
      live.current = undefined;
    };
  }, [el, id]);
  const send = useCallback((done: LiveDone) => live.current?.send(done) ?? false, []);
  const [w, h] = told.screen ?? [];
  return {
    way: way[0], why: way[1], hand: told.hand ?? { name: '', mine: false }, screen: w && h ? [w, h] : undefined, picture: told.picture,
    rate: told.rate, watching: told.watching ?? 1, test: told.test, routes: told.routes ?? none, problem, painted, canvas: setEl, send,
  };
}
