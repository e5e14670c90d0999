// How a session stands, in words.
import type { Session } from '../data/api';
import { ordinal } from '../words';

/** The session in a sentence. */
export function sessionSentence(s: Session): string {
  if (s.by_hand) return handSentence(s);
  const called = s.name || 'The session';
  const on = s.device ? ` on ${s.device.serial}` : '';
  if (s.stage === 'waiting') return `${called} is ${ordinal(s.place ?? 1)} in the queue for a device.`;
  if (s.stage !== 'done') return `${called}${on} is ${s.stage}${s.now_case ? `: ${s.now_case}` : ''}.`;
  switch (s.verdict) {
    case 'passed':
      return `${called}${on} passed${s.inferred ? ', as far as can be seen' : ''}.`;
    case 'failed':
      return `${called}${on} failed${s.inferred ? ', as far as can be seen' : ''}.`;
    case 'crashed':
      return `In ${called}${on} the app crashed.`;
    case 'expired':
      return `${called}${on} ran out of time.`;
    default:
      return `${called}${on} ${s.verdict === 'invalid' ? 'could not begin' : `was ${s.verdict}`}.`;
  }
}

function handSentence(s: Session): string {
  const device = s.device?.serial ?? 'The device';
  if (s.stage !== 'done') return `${device} is held by hand${s.name ? `: ${s.name}` : ''}.`;
  const end = s.verdict === 'crashed' ? '. The app crashed' : s.verdict === 'lost' ? ', and was lost' : '';
  return `${device} was held by hand${s.name ? `: ${s.name}` : ''}${end}.`;
}

/** How a session stands, in a word or two. */
export function sessionState(s: Session): string {
  if (s.verdict) return s.inferred ? `${s.verdict} (inferred)` : s.verdict;
  if (s.place) return `${ordinal(s.place)} in the queue`;
  return s.stopping ? 'stopping' : s.stage;
}
