// Files on their way to the service. They go on while pages change.
import { useSyncExternalStore } from 'react';
import { base, Refusal, unreachable, type Build, type Package, type Problem } from './api';
import { client } from './queries';

export interface Upload {
  id: number;
  name: string;
  size: number;
  sent: number; // bytes
  kind: 'build' | 'package';
  state: 'sending' | 'reading' | 'kept' | 'refused';
  known?: boolean; // it was there already
  ref?: string;
  refusal?: Refusal;
  cancel: () => void;
}

let uploads: Upload[] = [];
let count = 0;
const watchers = new Set<() => void>();

function change(id: number, with_: Partial<Upload>) {
  uploads = uploads.map((u) => (u.id === id ? { ...u, ...with_ } : u));
  watchers.forEach((f) => f());
}

export const useUploads = () => useSyncExternalStore((f) => (watchers.add(f), () => void watchers.delete(f)), () => uploads);

export function dismiss(id: number) {
  uploads.find((u) => u.id === id)?.cancel();
  uploads = uploads.filter((u) => u.id !== id);
  watchers.forEach((f) => f());
}

/** A zip is a test package; anything else is taken for a build, and the service says what is wrong with it. */
export const kindOf = (name: string): Upload['kind'] => (/\.zip$/i.test(name) ? 'package' : 'build');

export function upload(file: File) {
  const id = ++count;
  const kind = kindOf(file.name);
  const x = new XMLHttpRequest(); // fetch tells nothing of how far an upload is
  uploads = [...uploads, { id, name: file.name, size: file.size, sent: 0, kind, state: 'sending', cancel: () => x.abort() }];
  watchers.forEach((f) => f());
  x.open('POST', kind === 'build' ? `${base}/builds?filename=${encodeURIComponent(file.name)}` : `${base}/packages`);
  x.setRequestHeader('Content-Type', kind === 'build' ? 'application/octet-stream' : 'application/zip');
  x.responseType = 'json';
  x.upload.onprogress = (e) => change(id, { sent: e.loaded });
  x.upload.onload = () => change(id, { sent: file.size, state: 'reading' });
  x.onerror = () =>
    change(id, { state: 'refused', refusal: unreachable('the connection was cut off before all of the file was there; nothing was kept') });
  x.onload = () => {
    if (x.status === 200 || x.status === 201) {
      const kept = x.response as Build | Package;
      change(id, { state: 'kept', ref: kept.ref, known: x.status === 200 });
      void client.invalidateQueries({ queryKey: [kind + 's'] });
      return;
    }
    const p = x.response as Partial<Problem> | null;
    change(id, {
      state: 'refused',
      refusal: p?.title ? new Refusal({ type: 'about:blank', status: x.status, ...p } as Problem) : unreachable(`status ${x.status}`),
    });
  };
  x.send(file);
}

/** How an upload stands, for those who hear it: how far it is, they are not told again and again. */
export function spoken(u: Upload): string {
  switch (u.state) {
    case 'sending':
      return `${u.name} is uploading.`;
    case 'reading':
      return `${u.name} is uploading.`;
    case 'kept':
      return `${u.name}: ${u.known ? 'already here' : 'uploaded'} as ${u.ref}.`;
    case 'refused':
      return `${u.name} was refused: ${u.refusal?.message}.`;
  }
}
