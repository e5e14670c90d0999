// What a mouse, fingers, a wheel and a keyboard do on a held screen, as the service takes it: pure. Places are parts of the screen, 0 to 1.
import type { LiveDone } from '../data/api';

type Contact = NonNullable<LiveDone['fingers']>[number];

const clamp = (n: number) => Math.max(0, Math.min(1, n));

/** Fingers that touch. Each change gives all that touch then. */
export class Fingers {
  private down = new Map<number, Contact>();
  private mirrored = new Set<number>();

  /** Both: a second finger does the same on the other side of the screen's middle, as to pinch. */
  touch(id: number, x: number, y: number, both: boolean): LiveDone {
    this.down.set(id, { id, x: clamp(x), y: clamp(y) });
    if (both) this.mirrored.add(id);
    return this.all();
  }

  /** Undefined: it does not touch. */
  move(id: number, x: number, y: number): LiveDone | undefined {
    if (!this.down.has(id)) return undefined;
    this.down.set(id, { id, x: clamp(x), y: clamp(y) });
    return this.all();
  }

  lift(id: number): LiveDone | undefined {
    if (!this.down.delete(id)) return undefined;
    this.mirrored.delete(id);
    return this.all();
  }

  private all(): LiveDone {
    const fingers = [...this.down.values()].flatMap((f) =>
      this.mirrored.has(f.id) ? [f, { id: f.id + 1_000_000, x: 1 - f.x, y: 1 - f.y }] : [f],
    );
    return { fingers };
  }
}

const keys: Record<string, string> = {
  Enter: 'enter', Backspace: 'delete', Escape: 'back', End: 'end', ArrowUp: 'up', ArrowDown: 'down', ArrowLeft: 'left', ArrowRight: 'right',
};

interface Pressed {
  key: string;
  ctrlKey: boolean;
  metaKey: boolean;
  altKey: boolean;
  isComposing?: boolean;
}

/** What a key does on the device; undefined: nothing, it is the browser's. Tab leads on, so that nobody is caught. */
export function pressed(e: Pressed, secret: boolean): LiveDone | undefined {
  if (e.ctrlKey || e.metaKey || e.isComposing) return undefined;
  const key = keys[e.key];
  if (key) return { keys: [key] };
  if ([...e.key].length === 1) return secret ? { text: e.key, secret } : { text: e.key };
  return undefined;
}

/** A text that is pasted, in pieces that are taken. */
export function pasted(text: string, secret: boolean): LiveDone[] {
  const out: LiveDone[] = [];
  const letters = [...text.replaceAll('\r\n', '\n')];
  for (let i = 0; i < letters.length; i += 400) {
    const piece = letters.slice(i, i + 400).join('');
    out.push(secret ? { text: piece, secret } : { text: piece });
  }
  return out;
}

/** How far a wheel moves a finger, as a part of the screen: by pixels, lines or pages (DOM WheelEvent's deltaMode). */
export function wheeled(delta: number, mode: number, size: number): number {
  const px = mode === 1 ? delta * 40 : mode === 2 ? delta * size : delta;
  return Math.max(-0.3, Math.min(0.3, px / Math.max(size, 1)));
}

/** Where the screen is in a picture that is this large: all of it, as large as can be, in the middle. Without a screen it is the whole. */
export function cut(w: number, h: number, screen: [number, number] | undefined): { x: number; y: number; w: number; h: number } {
  if (!screen || screen[0] <= 0 || screen[1] <= 0) return { x: 0, y: 0, w, h };
  const scale = Math.min(w / screen[0], h / screen[1]);
  const sw = Math.min(w, screen[0] * scale);
  const sh = Math.min(h, screen[1] * scale);
  return { x: (w - sw) / 2, y: (h - sh) / 2, w: sw, h: sh };
}

/** The codec of a film by its record (RFC 6381, section 3.3). */
export const codecOf = (record: Uint8Array) => 'avc1.' + [...record.slice(1, 4)].map((b) => b.toString(16).padStart(2, '0')).join('');
