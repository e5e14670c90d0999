// What pages are made of: headings, facts, texts that can be copied, times, findings, refusals.
import { memo, useEffect, useState, type ReactNode } from 'react';
import styled from 'styled-components';
import { Refusal, type Finding } from '../data/api';
import { c, mono, narrow, radius } from '../theme';
import { useNow } from '../data/clock';
import { ago, exactTime } from '../words';
import { Button } from './controls';

export const Page = styled.main`
  padding: 16px 24px 48px; max-width: 1480px; margin: 0 auto; display: flex; flex-direction: column; gap: 16px;
  ${narrow} { padding: 12px 12px 32px; }
`;
export const Head = styled.header`display: flex; justify-content: space-between; align-items: flex-start; gap: 8px 24px; flex-wrap: wrap;`;
export const Sub = styled.p`
  color: ${c.faint}; overflow-wrap: anywhere;
  a { color: inherit; text-decoration: underline; text-decoration-color: ${c.grout}; text-underline-offset: 3px; }
`;
export const Row = styled.div<{ $gap?: number }>`display: flex; align-items: center; gap: ${(p) => p.$gap ?? 12}px; flex-wrap: wrap;`;
export const Section = styled.section`display: flex; flex-direction: column; gap: 8px; min-width: 0;`;
export const Faint = styled.span`color: ${c.faint};`;
export const Mono = styled.code`font-family: ${mono}; font-size: 13px; overflow-wrap: anywhere;`;
export const Simulated = styled.span`
  font-size: 12px; line-height: 16px; color: ${c.faint}; border: 1px dashed ${c.hollow}; border-radius: ${radius}; padding: 0 4px;
  white-space: nowrap;
`;

export function Title({ children }: { children: string }) {
  useEffect(() => {
    document.title = `${children} · Tessellant`;
  }, [children]);
  return null;
}

const FactList = styled.dl`
  display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 4px 24px; align-items: baseline;
  dt { color: ${c.faint}; } dd { overflow-wrap: anywhere; font-variant-numeric: tabular-nums; }
  ${narrow} { gap: 4px 12px; }
`;

/** Names and values; those without a value are left out. */
export function Facts({ of }: { of: [string, ReactNode][] }) {
  return (
    <FactList>
      {of.filter(([, v]) => v !== undefined && v !== '' && v !== null).map(([k, v]) => (
        <FactPair key={k} name={k} value={v} />
      ))}
    </FactList>
  );
}
const FactPair = ({ name, value }: { name: string; value: ReactNode }) => (
  <>
    <dt>{name}</dt>
    <dd>{value}</dd>
  </>
);

/** A time, roughly; exactly on hover, with the zone. */
export const When = memo(function When({ at }: { at: string }) {
  const now = useNow(15_000);
  return (
    <time dateTime={at} title={exactTime(at)}>
      {ago(at, now)}
    </time>
  );
});

/** Puts a text on the clipboard; false where the browser refuses. */
async function copyText(text: string, beside: HTMLElement): Promise<boolean> {
  try {
    await navigator.clipboard.writeText(text);
    return true;
  } catch {
    // Without TLS browsers offer no clipboard: the old way, by a selected field.
    // It stands beside the button: a sheet lets the focus go nowhere else.
    const t = document.createElement('textarea');
    t.value = text;
    t.readOnly = true;
    t.style.cssText = 'position: fixed; width: 1px; height: 1px; opacity: 0';
    beside.after(t);
    t.select();
    const ok = document.execCommand('copy');
    t.remove();
    beside.focus();
    return ok;
  }
}

/** Copies a text, and says whether that went well. */
export function CopyButton({ text, what, label = 'copy' }: { text: string; what: string; label?: string }) {
  const [said, say] = useState('');
  useEffect(() => {
    if (!said) return;
    const t = setTimeout(() => say(''), 2500);
    return () => clearTimeout(t);
  }, [said]);
  return (
    <Button
      $small={label.length < 7}
      aria-label={`Copy ${what}`}
      onPress={(e) =>
        void copyText(text, e.target as HTMLElement).then((ok) => say(ok ? 'copied' : 'not copied: mark the text and copy it'))
      }
    >
      <span role="status">{said || label}</span>
    </Button>
  );
}

const Shell = styled.div`
  display: flex; align-items: flex-start; gap: 8px; background: ${c.panel}; border: 1px solid ${c.grout}; border-radius: ${radius};
  padding: 8px;
  pre { flex: 1; white-space: pre-wrap; overflow-wrap: anywhere; min-width: 0; }
`;

/** A command line to copy. */
export function Command({ children }: { children: string }) {
  return (
    <Shell>
      <pre>{children}</pre>
      <CopyButton text={children} what="the command" />
    </Shell>
  );
}

/** An id or a reference, with a button that copies it. */
export function Ref({ children }: { children: string }) {
  return (
    <Row $gap={8}>
      <Mono>{children}</Mono>
      <CopyButton text={children} what={children} />
    </Row>
  );
}

const levels = { blocks: c.failed, warns: c.flaky, notes: c.lapis };
const FindingItem = styled.li<{ $level: Finding['level'] }>`
  border-left: 3px solid ${(p) => levels[p.$level]}; padding-left: 12px;
  p + p { color: ${c.faint}; }
`;
const Plain = styled.ul`display: flex; flex-direction: column; gap: 12px;`;

/** What a finding is about: a device, in one variant; a line of a file. */
function about(f: Finding): string {
  if (f.device) return [f.device, f.variant].filter(Boolean).join(' ');
  return f.line ? `${f.file}:${f.line}` : (f.file ?? '');
}

/** What is wrong or worth knowing, each with its place and its remedy. */
export function Findings({ of }: { of: Finding[] }) {
  return (
    <Plain>
      {of.map((f, i) => (
        <FindingItem key={i} $level={f.level}>
          <p>
            {(f.device || f.file) && <Mono>{about(f)}</Mono>} {f.what}{' '}
            <Faint>({f.level})</Faint>
          </p>
          <p>{f.remedy}</p>
        </FindingItem>
      ))}
    </Plain>
  );
}

const Wrong = styled.div`
  border-left: 3px solid ${c.failed}; background: ${c.panel}; padding: 12px 16px; display: flex; flex-direction: column; gap: 8px;
  h1::first-letter, h2::first-letter { text-transform: uppercase; }
`;

/** What was refused, why, and what to do. With `page` it is all that the page shows. */
export function Refused({ error, page, children }: { error: unknown; page?: boolean; children?: ReactNode }) {
  const p = error instanceof Refusal ? error.problem : { title: 'The page failed', detail: String(error), remedy: 'Load it again.' };
  return (
    <Wrong role="alert">
      {page ? <h1>{p.title}</h1> : <h2>{p.title}</h2>}
      {p.detail && <p>{p.detail}</p>}
      {'findings' in p && p.findings && p.findings.length > 0 && <Findings of={p.findings} />}
      {p.remedy && <p>What to do: {p.remedy}</p>}
      {children}
    </Wrong>
  );
}

/** Says what is awaited, once that takes long enough to be noticed. */
export function Awaited({ what }: { what: string }) {
  const [late, setLate] = useState(false);
  useEffect(() => {
    const t = setTimeout(() => setLate(true), 250);
    return () => clearTimeout(t);
  }, []);
  return <Sub role="status">{late ? `Waiting for ${what} …` : ''}</Sub>;
}

const EmptyBox = styled.div`
  border: 1px dashed ${c.grout}; border-radius: ${radius}; padding: 24px; display: flex; flex-direction: column; gap: 12px;
  max-width: 880px;
`;

/** Nothing there yet: the next step, and the command for it. */
export function Empty({ title, children, command }: { title: string; children?: ReactNode; command: string }) {
  return (
    <EmptyBox>
      <h2>{title}</h2>
      {children && <p>{children}</p>}
      <Command>{command}</Command>
    </EmptyBox>
  );
}
