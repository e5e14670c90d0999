// The way to a held device: a WebSocket that is opened again where it was cut. Messages are those of GET /hands/{id}/watch.
import type { LiveDone, LiveTold } from '../data/api';

export type Way = 'opening' | 'open' | 'cut' | 'over';

export interface Heard {
  way: (way: Way, why: string) => void;
  told: (told: LiveTold) => void;
  record: (bytes: Uint8Array<ArrayBuffer>) => void;
  film: (key: boolean, at: number, units: Uint8Array<ArrayBuffer>) => void;
  single: (jpeg: Uint8Array<ArrayBuffer>) => void;
}

export interface Socket {
  binaryType: string;
  readyState: number;
  onopen: ((e: Event) => void) | null;
  onmessage: ((e: MessageEvent) => void) | null;
  onclose: ((e: CloseEvent) => void) | null;
  send(text: string): void;
  close(): void;
}

export const given = 'the device is given back';
export const waits = [300, 700, 1500, 3000, 5000]; // ms before it is opened again

export class Live {
  private socket: Socket | undefined;
  private tries = 0;
  private retry: ReturnType<typeof setTimeout> | undefined;
  private ended = false;
  private picture: NonNullable<LiveDone['picture']> = 'film';

  constructor(private open: () => Socket, private heard: Heard) {
    this.start();
  }

  private start() {
    this.heard.way('opening', '');
    const socket = this.open();
    this.socket = socket;
    socket.binaryType = 'arraybuffer';
    socket.onopen = () => {
      this.tries = 0;
      if (this.picture !== 'film') this.send({ picture: this.picture });
      this.heard.way('open', '');
    };
    socket.onmessage = (e) => this.take(e.data);
    socket.onclose = (e) => {
      this.socket = undefined;
      if (this.ended) return;
      if (e.reason === given) {
        this.ended = true;
        this.heard.way('over', e.reason);
        return;
      }
      this.heard.way('cut', e.reason);
      this.retry = setTimeout(() => this.start(), waits[Math.min(this.tries++, waits.length - 1)]);
    };
  }

  private take(data: unknown) {
    if (typeof data === 'string') {
      this.heard.told(JSON.parse(data) as LiveTold);
      return;
    }
    const all = new Uint8Array(data as ArrayBuffer);
    const kind = String.fromCharCode(all[0] ?? 0);
    if (kind === 'r') this.heard.record(all.slice(1));
    else if (all.length > 9) {
      const at = Number(new DataView(all.buffer, all.byteOffset + 1, 8).getBigUint64(0));
      if (kind === 'j') this.heard.single(all.slice(9));
      else if (kind === 'k' || kind === 'p') this.heard.film(kind === 'k', at, all.slice(9));
    }
  }

  /** False: it is not open, and nothing was said. */
  send(done: LiveDone): boolean {
    if (this.socket?.readyState !== 1) return false;
    this.socket.send(JSON.stringify(done));
    return true;
  }

  /** What is to be shown; said again after a cut. */
  shows(picture: NonNullable<LiveDone['picture']>) {
    this.picture = picture;
    this.send({ picture });
  }

  close() {
    this.ended = true;
    clearTimeout(this.retry);
    this.socket?.close();
  }
}
