// The controls: React Aria's behaviour in our clothes.
import type { ReactNode } from 'react';
import {
  Button as AriaButton,
  Input,
  Label,
  ListBox,
  ListBoxItem,
  Popover,
  SearchField as AriaSearchField,
  Select as AriaSelect,
  SelectValue,
  Tab as AriaTab,
  TabList as AriaTabList,
  TabPanel as AriaTabPanel,
  Tabs as AriaTabs,
  TextField as AriaTextField,
  ToggleButton as AriaToggleButton,
  ToggleButtonGroup as AriaToggleButtonGroup,
  Tooltip as AriaTooltip,
  TooltipTrigger,
} from 'react-aria-components';
import styled, { css } from 'styled-components';
import { c, mono, radius } from '../theme';
import { useTyped } from './typed';

const control = css`
  font: inherit; color: ${c.ink}; background: ${c.panel}; border: 1px solid ${c.grout}; border-radius: ${radius}; min-height: 32px;
  padding: 4px 12px;
  &[data-focus-visible] { outline: 2px solid ${c.lapis}; outline-offset: 1px; }
  &[data-disabled] { color: ${c.faint}; cursor: default; opacity: 0.7; }
`;

export const Button = styled(AriaButton)<{ $main?: boolean; $small?: boolean }>`
  ${control} cursor: pointer; white-space: nowrap;
  &[data-hovered] { background: ${c.hover}; }
  ${(p) => p.$small && css`min-height: 24px; padding: 0 8px; font-size: 13px; line-height: 20px;`}
  ${(p) => p.$main && css`
    background: ${c.lapis}; color: ${c.onLapis}; border-color: ${c.lapis}; font-weight: 560;
    &[data-hovered] { background: ${c.lapis}; filter: brightness(1.1); }
    &[data-disabled] { color: ${c.onLapis}; }
  `}
`;

const Stack = css`display: flex; flex-direction: column; gap: 4px; min-width: 0;`;
const FieldLabel = styled(Label)`font-size: 13px; line-height: 20px; color: ${c.faint};`;
const Said = styled.p`font-size: 13px; line-height: 20px; color: ${c.faint};`;

const Field = styled(AriaTextField)`${Stack}`;
const Typed = styled(Input)<{ $mono?: boolean }>`
  ${control} padding: 4px 8px; width: 100%; min-width: 0; ${(p) => p.$mono && css`font-family: ${mono}; font-size: 13px;`}
  &::placeholder { color: ${c.faint}; opacity: 1; }
  &[data-focused] { outline: 2px solid ${c.lapis}; outline-offset: 0; }
`;

/** A field for a line of text. */
export function TextField(p: {
  label: string;
  value: string;
  onChange: (v: string) => void;
  hint?: ReactNode;
  type?: string;
  mono?: boolean;
  placeholder?: string;
  autoFocus?: boolean;
  name?: string;
  autoComplete?: string;
}) {
  const typed = useTyped(p.value, p.onChange);
  return (
    <Field {...typed} type={p.type ?? 'text'} name={p.name} autoFocus={p.autoFocus}>
      <FieldLabel>{p.label}</FieldLabel>
      <Typed $mono={p.mono} placeholder={p.placeholder} autoComplete={p.autoComplete ?? 'off'} spellCheck={false} />
      {p.hint && <Said>{p.hint}</Said>}
    </Field>
  );
}

const Search = styled(AriaSearchField)`
  ${Stack} position: relative;
  input::-webkit-search-cancel-button { display: none; }
`;

/** A field that narrows what is shown. Its label is only heard. */
export function SearchField(p: { label: string; value: string; onChange: (v: string) => void; placeholder?: string }) {
  const typed = useTyped(p.value, p.onChange);
  return (
    <Search aria-label={p.label} {...typed}>
      <Typed placeholder={p.placeholder ?? p.label} />
    </Search>
  );
}

const Sheet = styled(Popover)`
  background: ${c.panel}; color: ${c.ink}; border: 1px solid ${c.grout}; border-radius: ${radius}; box-shadow: 0 8px 24px ${c.veil};
  padding: 4px; overflow: auto; min-width: var(--trigger-width);
`;
const Choices = styled(ListBox)`outline: none; max-height: 320px; overflow: auto;` as unknown as typeof ListBox;
const Choice = styled(ListBoxItem)`
  display: flex; justify-content: space-between; gap: 16px; padding: 4px 8px; border-radius: ${radius}; cursor: pointer; outline: none;
  font-size: 14px;
  &[data-focused] { background: ${c.hover}; }
  &[data-selected] { background: ${c.chosen}; }
  &[data-focus-visible] { outline: 2px solid ${c.lapis}; outline-offset: -2px; }
`;
const Picker = styled(AriaSelect)<{ $row?: boolean }>`
  ${Stack}
  ${(p) => p.$row && css`flex-direction: row; align-items: center; gap: 8px;`}
  button {
    ${control} display: flex; justify-content: space-between; align-items: center; gap: 12px; text-align: left;
    cursor: pointer; min-width: 0;
  }
  button[data-hovered] { background: ${c.hover}; }
`;
const Value = styled(SelectValue)`overflow: hidden; text-overflow: ellipsis; white-space: nowrap;`;
const Mark = styled.span`color: ${c.faint}; font-size: 11px;`;

interface Option {
  id: string;
  text: string;
  more?: string;
}

/** One of several. */
export function Select(p: {
  label: string;
  hideLabel?: boolean;
  inRow?: boolean;
  value: string;
  onChange: (id: string) => void;
  options: Option[];
  placeholder?: string;
}) {
  return (
    <Picker
      $row={p.inRow}
      aria-label={p.hideLabel ? p.label : undefined}
      value={p.value || null}
      onChange={(k) => p.onChange(String(k ?? ''))}
      placeholder={p.placeholder ?? 'choose'}
    >
      {!p.hideLabel && <FieldLabel>{p.label}</FieldLabel>}
      <AriaButton>
        <Value>{({ selectedText, defaultChildren }) => selectedText || defaultChildren}</Value>
        <Mark aria-hidden>▾</Mark>
      </AriaButton>
      <Sheet>
        <Choices items={p.options}>
          {(o: Option) => (
            <Choice id={o.id} textValue={o.text}>
              <span>{o.text}</span>
              {o.more && <Mark>{o.more}</Mark>}
            </Choice>
          )}
        </Choices>
      </Sheet>
    </Picker>
  );
}

export const Tabs = styled(AriaTabs)`display: flex; flex-direction: column; min-height: 0; min-width: 0;`;
export const TabList = styled(AriaTabList)`
  display: flex; flex-wrap: wrap; gap: 0 clamp(10px, 2.5vw, 16px); border-bottom: 1px solid ${c.grout}; flex: none;
`;
export const Tab = styled(AriaTab)`
  padding: 4px 0; cursor: pointer; color: ${c.faint}; border-bottom: 2px solid transparent; margin-bottom: -1px; outline: none;
  white-space: nowrap;
  &[data-hovered] { color: ${c.ink}; }
  &[data-selected] { color: ${c.ink}; border-color: ${c.lapis}; font-weight: 560; }
  &[data-focus-visible] { outline: 2px solid ${c.lapis}; outline-offset: 1px; }
`;
export const TabPanel = styled(AriaTabPanel)`
  outline: none; min-height: 0; min-width: 0; flex: 1; padding-top: 8px;
  &[data-inert] { display: none; }
`;

const Group = styled(AriaToggleButtonGroup)`
  display: inline-flex;
  button { ${control} min-height: 28px; padding: 2px 8px; font-size: 13px; border-radius: 0; margin-left: -1px; cursor: pointer; }
  button:first-child { border-radius: ${radius} 0 0 ${radius}; }
  button:last-child { border-radius: 0 ${radius} ${radius} 0; }
  button[data-hovered] { background: ${c.hover}; }
  button[data-selected] {
    background: ${c.chosen}; color: ${c.ink}; border-color: ${c.lapis}; z-index: 1; position: relative; font-weight: 560;
  }
`;

/** One of a few, all in sight. */
export function Choose(p: { label: string; value: string; onChange: (id: string) => void; options: Option[] }) {
  return (
    <Group
      aria-label={p.label}
      selectionMode="single"
      disallowEmptySelection
      selectedKeys={[p.value]}
      onSelectionChange={(keys) => p.onChange(String([...(keys)][0]))}
    >
      {p.options.map((o) => (
        <AriaToggleButton id={o.id} key={o.id}>
          {o.text}
        </AriaToggleButton>
      ))}
    </Group>
  );
}

const Tip = styled(AriaTooltip)`
  background: ${c.ink}; color: ${c.panel}; border-radius: ${radius}; padding: 4px 8px; font-size: 13px; line-height: 18px;
  max-width: 320px; white-space: pre-line;
`;

/** Says more about a control, on hover and on focus. */
export function WithTip({ text, children }: { text: ReactNode; children: ReactNode }) {
  return (
    <TooltipTrigger delay={300} closeDelay={0}>
      {children}
      <Tip offset={6}>{text}</Tip>
    </TooltipTrigger>
  );
}
