// Draws what is on a held screen: a film by the browser's decoder (W3C WebCodecs), or single pictures.
import { codecOf, cut } from './fingers';

interface Around {
  painted: () => void; // a picture is drawn
  stuck: () => void; // the film can't be shown: it is wanted from its next beginning
  unable: () => void; // no film can be shown here
}

const mostFailures = 3; // of a decoder
const mostWaiting = 24; // pictures that wait to be decoded: then the newest are wanted, and not these
const anewEvery = 3_000; // ms
const together = 12; // ms: pictures that come closer are drawn once

/** Whether this browser shows films. Decoders are there on pages that came over HTTPS, or from this machine. */
export const showsFilms = () => typeof VideoDecoder !== 'undefined';

export class Painter {
  private decoder: VideoDecoder | undefined;
  private failures = 0;
  private askedAnew = 0;
  private drawnAt = 0;
  private frame = 0;
  private screen: [number, number] | undefined;
  private last: { draw: CanvasImageSource; w: number; h: number; close: () => void } | undefined;

  constructor(private canvas: HTMLCanvasElement, private around: Around) {}

  /** How large the screen is, as it is held. */
  holds(w: number, h: number) {
    this.screen = [w, h];
    this.draw();
  }

  begin(record: Uint8Array<ArrayBuffer>) {
    this.end();
    const decoder = new VideoDecoder({
      output: (frame) => this.show({ draw: frame, w: frame.displayWidth, h: frame.displayHeight, close: () => frame.close() }),
      error: () => this.failed(decoder),
    });
    this.decoder = decoder;
    try {
      decoder.configure({ codec: codecOf(record), description: record, optimizeForLatency: true });
    } catch {
      this.failed(decoder);
    }
  }

  film(key: boolean, at: number, units: Uint8Array<ArrayBuffer>) {
    const decoder = this.decoder;
    if (!decoder) return;
    if (decoder.decodeQueueSize > mostWaiting && performance.now() - this.askedAnew > anewEvery) {
      this.askedAnew = performance.now();
      this.end();
      this.around.stuck();
      return;
    }
    try {
      decoder.decode(new EncodedVideoChunk({ type: key ? 'key' : 'delta', timestamp: at * 1000, data: units }));
    } catch {
      this.failed(decoder);
    }
  }

  async single(jpeg: Uint8Array<ArrayBuffer>) {
    const map = await createImageBitmap(new Blob([jpeg], { type: 'image/jpeg' })).catch(() => undefined);
    if (map) this.show({ draw: map, w: map.width, h: map.height, close: () => map.close() });
  }

  end() {
    const decoder = this.decoder;
    this.decoder = undefined;
    if (decoder && decoder.state !== 'closed') decoder.close();
  }

  private failed(which: VideoDecoder) {
    if (which !== this.decoder) return;
    this.end();
    this.failures++;
    if (this.failures >= mostFailures) this.around.unable();
    else this.around.stuck();
  }

  private show(picture: NonNullable<Painter['last']>) {
    this.last?.close();
    this.last = picture;
    if (performance.now() - this.drawnAt >= together) this.drawNow();
    else this.frame ||= requestAnimationFrame(() => this.drawNow());
    this.around.painted();
  }

  private drawNow() {
    cancelAnimationFrame(this.frame);
    this.frame = 0;
    this.drawnAt = performance.now();
    this.draw();
  }

  private draw() {
    if (!this.last) return;
    const from = cut(this.last.w, this.last.h, this.screen);
    const w = Math.round(from.w);
    const h = Math.round(from.h);
    if (this.canvas.width !== w || this.canvas.height !== h) {
      this.canvas.width = w;
      this.canvas.height = h;
    }
    this.canvas.getContext('2d')?.drawImage(this.last.draw, from.x, from.y, from.w, from.h, 0, 0, w, h);
  }

  close() {
    this.end();
    cancelAnimationFrame(this.frame);
    this.last?.close();
    this.last = undefined;
  }
}
