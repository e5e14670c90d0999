// The tab's one stream of events: it asks for what the pages show, and goes on where it was left.
//
// A tab that nobody sees lets go of its stream after a while, since browsers open only a few connections to one address; when it is
// seen again it asks for all that it missed, by the place of the last event.
import type { Change } from './changes';

/** What a page wants to hear of. */
export interface Topics {
  run?: string;
  leg?: string;
  list?: List[];
}
export type List = 'runs' | 'sessions' | 'devices' | 'builds' | 'packages';

export type Connection = 'connecting' | 'open' | 'lost';

/** An EventSource, as far as it is used here. */
export interface Source {
  readyState: number;
  onerror: ((e: Event) => void) | null;
  addEventListener(kind: string, f: (e: MessageEvent) => void): void;
  close(): void;
}

export interface Surroundings {
  open: (query: string) => Source;
  change: (c: Change) => void;
  hello: (said: { at: string; version: string }) => void;
  refused: () => void; // perhaps the sign-in is over
  place: string; // of the feed, when the page was loaded
  hidden: () => boolean;
}

export const letGoAfter = 30_000; // ms that the tab is not seen
export const tryAgainAfter = 2_000;
export const lostAfter = 4_000; // the service ends a stream now and then, and the browser opens it anew
const closed = 2; // EventSource.CLOSED

const kinds: Change['kind'][] = ['run', 'session', 'device', 'build', 'package', 'timeline', 'screen', 'again'];

export class Stream {
  private source?: Source;
  private place: string;
  private topics = new Map<object, Topics>();
  private asked?: string; // what the open source was opened with, but for the place
  private retry?: ReturnType<typeof setTimeout>;
  private leaving?: ReturnType<typeof setTimeout>;
  private losing?: ReturnType<typeof setTimeout>;
  private opening = false;
  private watchers = new Set<() => void>();
  private wanted = false;
  state: Connection = 'connecting';

  constructor(private around: Surroundings) {
    this.place = around.place;
  }

  start() {
    this.wanted = true;
    this.soon();
  }

  stop() {
    this.wanted = false;
    clearTimeout(this.leaving);
    this.settled();
    this.close();
  }

  /** The tab is seen, or no longer. */
  seen() {
    clearTimeout(this.leaving);
    if (this.around.hidden()) this.leaving = setTimeout(() => this.close(), letGoAfter);
    else if (!this.source) this.soon();
  }

  /** Also hears of these; the answer ends that. */
  want(t: Topics): () => void {
    const key = {};
    this.topics.set(key, t);
    this.soon();
    return () => {
      this.topics.delete(key);
      this.soon();
    };
  }

  subscribe = (f: () => void) => {
    this.watchers.add(f);
    return () => void this.watchers.delete(f);
  };

  /** What is wanted, all together, as a query. */
  query(): URLSearchParams {
    const all = [...this.topics.values()];
    const q = new URLSearchParams();
    const leg = all.findLast((t) => t.leg)?.leg;
    const run = all.findLast((t) => t.run)?.run;
    const list = [...new Set(all.flatMap((t) => t.list ?? []))].sort();
    if (leg) q.set('leg', leg);
    if (run) q.set('run', run);
    if (list.length) q.set('list', list.join(','));
    return q;
  }

  /** Pages come and go within one frame: the stream is opened once for all of them. */
  private soon() {
    if (this.opening) return;
    this.opening = true;
    queueMicrotask(() => {
      this.opening = false;
      const now = this.query().toString();
      if (!this.wanted || now === '' || (this.source && now === this.asked)) return;
      this.open();
    });
  }

  private say(s: Connection) {
    if (this.state === s) return;
    this.state = s;
    this.watchers.forEach((f) => f());
  }

  private settled() {
    clearTimeout(this.losing);
    this.losing = undefined;
  }

  private close() {
    clearTimeout(this.retry);
    this.source?.close();
    this.source = undefined;
  }

  private open() {
    this.close();
    const q = this.query();
    this.asked = q.toString();
    if (this.place) q.set('since', this.place);
    const s = this.around.open(q.toString());
    this.source = s;
    s.addEventListener('hello', (e) => {
      this.settled();
      this.place = e.lastEventId || this.place;
      this.around.hello(JSON.parse(e.data as string) as { at: string; version: string });
      this.say('open');
    });
    s.addEventListener('here', (e) => void (this.place = e.lastEventId));
    for (const kind of kinds) {
      s.addEventListener(kind, (e) => {
        this.place = e.lastEventId;
        this.around.change({ kind, data: JSON.parse(e.data as string) as never });
      });
    }
    s.onerror = () => {
      if (this.source !== s) return;
      this.losing ??= setTimeout(() => this.say('lost'), lostAfter);
      if (s.readyState !== closed) return; // the browser tries again by itself
      this.close();
      this.around.refused();
      this.retry = setTimeout(() => this.wanted && this.open(), tryAgainAfter);
    };
  }
}
