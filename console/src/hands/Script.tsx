// What is done on a held device as lines of a script: recorded, edited, run from any line, saved as a package.
import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, http } from '../data/api';
import { useMay } from '../data/queries';
import { Button, Choose, TextField } from '../parts/controls';
import { CopyButton, Faint, Mono, Refused, Row, Section, Sub } from '../parts/page';
import { c, mono, radius } from '../theme';
import { quoted } from './held';
import { checkLine, grown, lineAt, ran, sourceOf, startOf } from './lines';
import type { Held } from './useLive';
import type { HeldScreen } from './useTree';

const Editor = styled.textarea`
  font-family: ${mono}; font-size: 13px; line-height: 20px; width: 100%; min-height: 240px; resize: vertical; color: ${c.ink};
  background: ${c.panel}; border: 1px solid ${c.grout}; border-radius: ${radius}; padding: 8px; white-space: pre; overflow: auto;
  &:focus-visible { outline: 2px solid ${c.lapis}; outline-offset: 0; }
`;

export function Script({ id, live, screen }: { id: string; live: Held; screen: HeldScreen }) {
  const path = { params: { path: { id } } };
  const mayUpload = useMay('upload');
  const [text, setText] = useState('');
  const [name, setName] = useState('by-hand');
  const [recording, setRecording] = useState(false);
  const [said, setSaid] = useState('');
  const from = useRef(0); // how many lines there were when recording began
  const taken = useRef<string[]>([]);
  const el = useRef<HTMLTextAreaElement>(null);
  const lines = useQuery({
    queryKey: ['heldscript', id],
    queryFn: async () => (await answer(http.GET('/hands/{id}/script', path))).lines.map((l) => l.text),
    retry: false,
    refetchInterval: recording ? 1000 : false,
  });
  useEffect(() => {
    if (!recording || !lines.data) return;
    const fresh = lines.data.slice(from.current);
    const before = taken.current;
    taken.current = fresh;
    setText((old) => grown(old, before, fresh));
  }, [recording, lines.data]);
  const record = useAction(async (on: boolean) => {
    if (on) {
      from.current = (await lines.refetch()).data?.length ?? 0;
      taken.current = [];
    }
    live.send({ record: on });
    setRecording(on);
  });
  const run = useAction(async (first: number) => {
    setSaid('');
    const all = text.split('\n');
    const r = await answer(http.POST('/hands/{id}/run', { ...path, body: { lines: all, from: first } }));
    setSaid(ran(r, all));
    if (r.line !== undefined && el.current) {
      const at = startOf(text, r.line);
      el.current.focus();
      el.current.setSelectionRange(at, at + (all[r.line] ?? '').length);
    }
  });
  const save = useAction(async () => {
    setSaid('');
    const p = await answer(http.POST('/scripts', { body: { name: name.trim(), source: sourceOf(text) } }));
    setSaid(`It is saved as ${p.ref}.`);
  });
  const add = (line: string) => setText((old) => (old && !old.endsWith('\n') ? old + '\n' : old) + line + '\n');
  const { picked } = screen;
  const css = picked?.locators[0]?.css;
  const nothing = !text.trim();
  const from1 = () => lineAt(text, el.current?.selectionStart ?? 0);
  return (
    <Section aria-label="Script">
      <Row $gap={12}>
        <Choose label="Recording" value={recording ? 'on' : 'off'} onChange={(v) => void record.run(v === 'on')}
          options={[{ id: 'off', text: 'Do not record' }, { id: 'on', text: 'Record what I do' }]} />
        <Faint role="status">{recording ? 'Taps, texts, keys and settings become lines.' : ''}</Faint>
      </Row>
      <Editor ref={el} aria-label="Lines of the script" value={text} spellCheck={false} onChange={(e) => setText(e.target.value)}
        placeholder={"phone.tap('#send')\ncheck.equal(phone.read('#title'), 'Sent')"} />
      {picked && css && (
        <Row $gap={8}>
          <Mono>{css}</Mono>
          <Button $small onPress={() => add(checkLine(picked, css))}>Add check</Button>
          <Button $small onPress={() => add(`phone.wait_gone(${quoted(css)})`)}>Add wait until it is gone</Button>
        </Row>
      )}
      {!picked && <Sub>To add a check, choose “Point at elements” and point at one on the screen.</Sub>}
      <Row $gap={8}>
        <Button isDisabled={nothing || run.busy} onPress={() => void run.run(0)}>Run all</Button>
        <Button isDisabled={nothing || run.busy} onPress={() => void run.run(from1())}>Run from the cursor’s line</Button>
        <CopyButton text={sourceOf(text)} what="the script" label="Copy" />
        <span role="status">{run.busy ? 'The lines are running …' : said}</span>
      </Row>
      {mayUpload && (
        <Row $gap={12} style={{ alignItems: 'flex-end' }}>
          <TextField label="Save as the package" value={name} onChange={setName} />
          <Button isDisabled={nothing || !name.trim() || save.busy} onPress={() => void save.run()}>Save package</Button>
        </Row>
      )}
      {run.error !== undefined && <Refused error={run.error} />}
      {save.error !== undefined && <Refused error={save.error} />}
      {lines.error && <Refused error={lines.error} />}
    </Section>
  );
}
