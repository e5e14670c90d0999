import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { given, Live, waits, type Socket } from './live';

class Fake implements Socket {
  binaryType = '';
  readyState = 0;
  onopen: Socket['onopen'] = null;
  onmessage: Socket['onmessage'] = null;
  onclose: Socket['onclose'] = null;
  said: string[] = [];
  closed = false;
  send(text: string) {
    this.said.push(text);
  }
  close() {
    this.closed = true;
  }
  opens() {
    this.readyState = 1;
    this.onopen?.(new Event('open'));
  }
  hears(data: unknown) {
    this.onmessage?.({ data } as MessageEvent);
  }
  ends(reason: string) {
    this.readyState = 3;
    this.onclose?.({ code: 1001, reason } as CloseEvent);
  }
}

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

function begin() {
  const sockets: Fake[] = [];
  const heard: unknown[] = [];
  const live = new Live(() => (sockets.push(new Fake()), sockets[sockets.length - 1]!), {
    way: (way, why) => heard.push(why ? [way, why] : way),
    told: (t) => heard.push(t),
    record: (b) => heard.push(['record', [...b]]),
    film: (key, at, u) => heard.push(['film', key, at, [...u]]),
    single: (b) => heard.push(['single', [...b]]),
  });
  return { sockets, heard, live };
}

const frame = (kind: string, ...bytes: number[]) => new Uint8Array([kind.charCodeAt(0), ...bytes]).buffer;

test('what comes is taken apart', () => {
  const { sockets, heard, live } = begin();
  expect(live.send({ text: 'a' })).toBe(false);
  sockets[0]!.opens();
  sockets[0]!.hears('{"watching":2}');
  sockets[0]!.hears(frame('r', 1, 2));
  sockets[0]!.hears(frame('k', 0, 0, 0, 0, 0, 0, 1, 2, 9));
  sockets[0]!.hears(frame('p', 0, 0, 0, 0, 0, 0, 1, 3, 8));
  sockets[0]!.hears(frame('j', 0, 0, 0, 0, 0, 0, 1, 4, 7));
  sockets[0]!.hears(frame('p', 1)); // too short
  sockets[0]!.hears(new ArrayBuffer(0));
  expect(heard).toEqual([
    'opening', 'open', { watching: 2 }, ['record', [1, 2]], ['film', true, 258, [9]], ['film', false, 259, [8]], ['single', [7]],
  ]);
  expect(live.send({ text: 'a' })).toBe(true);
  expect(sockets[0]!.said).toEqual(['{"text":"a"}']);
});

test('it is opened again after a cut, and says again what is to be shown', () => {
  const { sockets, heard, live } = begin();
  sockets[0]!.opens();
  live.shows('single');
  sockets[0]!.ends('');
  expect(heard.at(-1)).toBe('cut');
  vi.advanceTimersByTime(waits[0]!);
  sockets[1]!.opens();
  expect(sockets[1]!.said).toEqual(['{"picture":"single"}']);
  for (let i = 0; i < 9; i++) {
    sockets.at(-1)!.ends('');
    vi.advanceTimersByTime(waits.at(-1)!);
  }
  expect(sockets).toHaveLength(11);
});

test('it is over when the device is given back, and when the page goes', () => {
  const { sockets, heard } = begin();
  sockets[0]!.opens();
  sockets[0]!.ends(given);
  expect(heard.at(-1)).toEqual(['over', given]);
  vi.advanceTimersByTime(60_000);
  expect(sockets).toHaveLength(1);
  const other = begin();
  other.sockets[0]!.ends('');
  other.live.close();
  vi.advanceTimersByTime(60_000);
  expect(other.sockets).toHaveLength(1);
});
