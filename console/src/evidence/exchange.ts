// What is said of an exchange. Pure.
import type { Exchange, NetworkRow } from '../data/api';

/** Host and path of an address. */
export function place(url: string): { host: string; path: string } {
  const m = /^[a-z]+:\/\/([^/?#]*)(.*)$/i.exec(url);
  return m ? { host: m[1]!, path: m[2]! } : { host: '', path: url };
}

/** 200, failed, or closed: HTTPS that was not opened. */
export function status(r: Pick<NetworkRow, 'status' | 'error' | 'kind'>): string {
  if (r.status) return String(r.status);
  return r.error ? 'failed' : r.kind === 'connection' ? 'closed' : '';
}

export const typeText = (r: Pick<NetworkRow, 'type' | 'kind'>) =>
  r.kind === 'connection' ? 'not opened' : r.kind === 'websocket' ? 'WebSocket' : (r.type ?? '').replace(/^(application|text)\//, '');

export function headText(e: Exchange): string {
  const what = e.request.method === 'CONNECT' ? `Connection to ${place(e.request.url).host}` : `${e.request.method} ${e.request.url}`;
  return e.response.status ? `${what} → ${e.response.status} ${e.response.statusText}`.trim() : what;
}

const left = ['content-length', 'connection', 'proxy-connection', 'accept-encoding'];

/** The request as a command for curl. */
export function curl(e: Exchange): string {
  const quote = (s: string) => `'${s.replaceAll("'", `'\\''`)}'`;
  const parts = [`curl ${quote(e.request.url)}`];
  if (e.request.method !== 'GET') parts.push(`-X ${quote(e.request.method)}`);
  for (const h of e.request.headers) if (!left.includes(h.name.toLowerCase())) parts.push(`-H ${quote(`${h.name}: ${h.value}`)}`);
  if (e.request.postData?.text) parts.push(`--data-raw ${quote(e.request.postData.text)}`);
  return parts.join(' \\\n  ');
}
