import { expect, test } from 'vitest';
import { readView, writeView } from '../parts/address';
import { choosing, commandLine, formParts, limitOf, newer, pinned, planned, readPlan, requestOf, withOther, type Chosen } from './RunForm';

const form = (q = '') => readView(formParts, new URLSearchParams(q));
const chosen: Chosen = { build: 'B1', package: 'P1', given: {}, secrets: {} };

test('a form as it opens is a run on all of the platform', () => {
  expect(requestOf(form(), chosen)).toEqual({
    build: 'B1',
    package: 'P1',
    limit_seconds: 1800,
    confirm: 0,
    attempts: 2,
    where: ['platform=android'],
  });
});

test('what is missing makes no request', () => {
  expect(requestOf(form(), { ...chosen, build: '' })).toBeUndefined();
  expect(requestOf(form('by=name'), chosen)).toBeUndefined();
  expect(requestOf(form('limit=soon'), chosen)).toBeUndefined();
  expect(requestOf(form('by=name&devices=orr-01,orr-05'), chosen)).toMatchObject({ devices: ['orr-01', 'orr-05'] });
  expect(requestOf(form('where=+'), chosen)).not.toHaveProperty('where');
});

test('a time limit is from a second to a day', () => {
  expect(['30', '0.02', '1440', '0', '1441', '', ' ', 'soon', '-3', 'Infinity'].map(limitOf)).toEqual([
    1800,
    1,
    86_400,
    ...Array<undefined>(7).fill(undefined),
  ]);
});

test('no secret leaves the browser before the run starts', () => {
  const q = requestOf(form(), { ...chosen, given: { who: 'Ines', empty: '' }, secrets: { code: 'ebb-and-flow', none: '' } })!;
  expect(q.secrets).toEqual({ code: 'ebb-and-flow' });
  expect(q.inputs).toEqual({ who: 'Ines' });
  const asked = planned(q)!;
  expect(asked.secrets).toEqual({ code: 'given' });
  expect(JSON.stringify(asked)).not.toContain('ebb');
  expect(commandLine(q)).toContain('--secret-from-env code=CODE');
  expect(commandLine(q)).not.toContain('ebb');
  expect(writeView(formParts, new URLSearchParams(), { ...form() }).toString()).not.toContain('ebb');
});

test('a build for another platform goes along, and its devices are not left out', () => {
  const f = { ...form(), ...withOther('ios', 'kelpline/ios@231')(form()) };
  expect(requestOf(f, chosen)).toMatchObject({ other_builds: ['kelpline/ios@231'] });
  expect(requestOf(f, chosen)).not.toHaveProperty('where');
  expect(commandLine(requestOf(f, chosen)!)).toContain('--other-build kelpline/ios@231');
  expect(withOther('ios', 'kelpline/ios@240')(f).others).toEqual(['kelpline/ios@240']);
  expect(withOther('ios', '')(f).others).toEqual([]);
  expect(withOther('web', 'tides/web@v14')(form('where=maker%3DOrrery'))).toEqual({ others: ['tides/web@v14'] });
});

test('a keyboard for any text is a helper', () => {
  expect(requestOf(form(), chosen)).not.toHaveProperty('helpers');
  expect(requestOf(form('typing=any'), chosen)).toMatchObject({ helpers: ['keyboard'] });
  expect(commandLine(requestOf(form('typing=any'), chosen)!)).toContain('--helper keyboard');
});

test('the address brings the form back', () => {
  const f = form('by=name&devices=a,b&cases=survey.*&tags=smoke&confirm=2&limit=5');
  expect(readView(formParts, writeView(formParts, new URLSearchParams(), f))).toEqual(f);
});

test('a plan says who takes part, who can’t, and what is in the way of all', () => {
  const { taking, unfit, blocked } = readPlan({
    devices: ['a'],
    findings: [
      { level: 'blocks', device: 'b', what: 'too old', remedy: '' },
      { level: 'blocks', what: 'no case', remedy: '' },
    ],
  } as never);
  expect([...taking]).toEqual(['a']);
  expect([...unfit.keys()]).toEqual(['b']);
  expect(blocked.map((f) => f.what)).toEqual(['no case']);
  expect(readPlan(undefined).taking.size).toBe(0);
});

const item = (id: string, ref: string) => ({ id, ref });
test('what was chosen stays what it is when a newer one is uploaded', () => {
  const first = pinned(undefined, '', [item('2', 'app@231'), item('1', 'app@230')]);
  expect(first?.item.id).toBe('2');
  const more = [item('3', 'app@232'), item('2', 'app@231'), item('1', 'app@230')];
  expect(pinned(first, '', more)).toBe(first);
  expect(newer(first, more)?.id).toBe('3');
  // The same reference, uploaded anew with other content.
  const named = pinned(first, 'app@231', more);
  const again = [item('4', 'app@231'), ...more];
  expect(pinned(named, 'app@231', again)).toBe(named);
  expect(newer(named, again)?.id).toBe('4');
  expect(newer(named, more)).toBeUndefined();
  expect(pinned(named, '3', again)?.item.ref).toBe('app@232');
  expect(pinned(undefined, 'app@1', more)).toBeUndefined();
  expect(pinned(undefined, '', undefined)).toBeUndefined();
});

test('two devices that are chosen faster than the page is drawn are both chosen', () => {
  const now = { ...readView(formParts, new URLSearchParams()), devices: ['a', 'b'] };
  expect(choosing(['a'], ['a', 'c'])(now).devices).toEqual(['a', 'b', 'c']);
  expect(choosing(['a'], [])(now).devices).toEqual(['b']);
  expect(choosing(['a', 'b'], ['b'])(now).devices).toEqual(['b']);
});

test('what is kept is asked for where it is not usual, and stands in the command', () => {
  expect(requestOf(form('record=log:on'), chosen)).not.toHaveProperty('recording');
  const q = requestOf(form('record=video:off,network:contents&bounds=memory%3C400,threads%3C90&remarks=fail'), chosen)!;
  expect(q.recording).toEqual({ video: 'off', network: 'contents' });
  expect(q.bounds).toEqual(['memory<400', 'threads<90']);
  expect(q.remarks).toBe('fail');
  expect(commandLine(q)).toContain('--remarks fail');
  expect(commandLine(q)).toContain("--record video:off,network:contents \\\n  --bound 'memory<400' \\\n  --bound 'threads<90'");
});
