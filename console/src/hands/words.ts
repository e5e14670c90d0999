// How a hold stands, and a test on whose device people look, in words.
import type { Hold, LiveTold } from '../data/api';
import { ordinal } from '../words';

/** A time that is left: seconds matter only when they are few. */
export function left(ms: number): string {
  const s = Math.max(0, Math.round(ms / 1000));
  if (s < 120) return `${s} s`;
  const m = Math.round(s / 60);
  return m < 60 ? `${m} min` : `${Math.floor(m / 60)} h ${m % 60} min`;
}

/** How a hold stands, in a few words. */
export function holdState(h: Hold): string {
  switch (h.stage) {
    case 'waiting':
      return h.place ? `${ordinal(h.place)} in the queue` : 'waiting';
    case 'held':
    case 'preparing':
      return 'being made ready';
    case 'running':
      return h.stopping ? 'being given back' : 'held';
    case 'collecting':
      return 'being given back';
  }
  const how: Record<string, string> = {
    client: 'given back', limit: 'its time was over', lost: 'the device was lost', stopped: 'ended', never: 'never got a device',
  };
  return how[h.how ?? ''] ?? h.verdict ?? 'over';
}

/** The hold in a sentence. Mine: who looks has asked for it. */
export function holdSentence(h: Hold, mine: boolean): string {
  const device = h.device?.serial ?? 'The device';
  switch (h.stage) {
    case 'waiting':
      return `The hold is ${ordinal(h.place ?? 1)} in the queue for ${h.where.join(' ')}.`;
    case 'held':
    case 'preparing':
      return `${device} is being made ready.`;
    case 'running':
      return h.stopping ? `${device} is being given back.` : mine ? `${device} is yours.` : `${device} is held by ${h.by}.`;
    case 'collecting':
      return `${device} is being given back.`;
  }
  const how: Record<string, string> = {
    client: `${device} was given back.`,
    limit: `${device} was given back: the time was over.`,
    lost: `${device} was lost.`,
    never: 'The hold never got a device.',
  };
  return how[h.how ?? ''] ?? `The hold of ${device} is over.`;
}

/** A way from apps to somebody's own machine, in a sentence. */
export function routeSentence(r: NonNullable<LiveTold['routes']>[number]): string {
  return `Apps that ask for ${r.at} reach the machine of ${r.by}.`;
}

/** How a test stands, in a sentence. */
export function testSentence(test: LiveTold['test'], serial: string, way: string): string {
  if (way === 'over') return `The test on ${serial} has ended.`;
  if (!test) return `The way to ${serial} is being opened …`;
  if (!test.paused) return `The test on ${serial} is running.`;
  const itself = `The test on ${serial} paused itself${test.line ? ` at ${test.line}` : ''}`;
  const who = test.by ? `${test.by} paused the test on ${serial}` : itself;
  return test.why ? `${who}: ${test.why}${/[.…!?]$/.test(test.why) ? '' : '.'}` : `${who}.`;
}
