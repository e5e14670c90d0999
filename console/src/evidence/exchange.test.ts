import { expect, test } from 'vitest';
import type { Exchange } from '../data/api';
import { curl, headText, place, status, typeText } from './exchange';

const of = (more: Partial<Exchange['request']> = {}, code = 200): Exchange => ({
  startedDateTime: '', time: 1, _at: 1, _kind: 'http', timings: { blocked: 0 },
  request: { method: 'GET', url: 'http://a.example/x?y=1', httpVersion: 'HTTP/1.1', headers: [], queryString: [], ...more },
  response: { status: code, statusText: 'OK', httpVersion: 'HTTP/1.1', headers: [], content: { size: 0, mimeType: '' } },
});

test('an address has a host and a path', () => {
  expect(place('https://a.example:81/x?y=1')).toEqual({ host: 'a.example:81', path: '/x?y=1' });
  expect(place('nonsense')).toEqual({ host: '', path: 'nonsense' });
});
test('how it went is said in a word', () => {
  expect(status({ status: 404, kind: 'http' })).toBe('404');
  expect(status({ status: 0, kind: 'connection' })).toBe('closed');
  expect(status({ status: 0, error: 'no', kind: 'connection' })).toBe('failed');
  expect(typeText({ kind: 'http', type: 'application/json' })).toBe('json');
  expect(headText(of())).toBe('GET http://a.example/x?y=1 → 200 OK');
  expect(headText(of({ method: 'CONNECT', url: 'https://a.example' }, 0))).toBe('Connection to a.example');
});
test('a request becomes a command that can be pasted', () => {
  const e = of({
    method: 'POST',
    headers: [{ name: 'X-A', value: "it's" }, { name: 'Content-Length', value: '3' }],
    postData: { size: 3, mimeType: 'text/plain', text: "a'b" },
  });
  expect(curl(e)).toBe(`curl 'http://a.example/x?y=1' \\\n  -X 'POST' \\\n  -H 'X-A: it'\\''s' \\\n  --data-raw 'a'\\''b'`);
});
