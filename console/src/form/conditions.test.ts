import { expect, test } from 'vitest';
import { parseConditions, parseLabels, parseVariant, variantsOf } from './conditions';

test('conditions are read as the command line reads them', () => {
  expect(parseConditions('language:de, dark ,location:38.7,-9.14,wifi:off')).toEqual({
    language: 'de', dark: 'on', location: '38.7,-9.14', wifi: 'off',
  });
  expect(parseConditions(' , ')).toEqual({});
});

test('a variant has a name, and may leave the device as it is', () => {
  expect(parseVariant('wide=orientation:landscape,dark')).toEqual({ name: 'wide', conditions: { orientation: 'landscape', dark: 'on' } });
  expect(parseVariant('as-it-is')).toEqual({ name: 'as-it-is', conditions: {} });
  expect(variantsOf(['de=language:de', '=dark', ''])).toEqual([{ name: 'de', conditions: { language: 'de' } }]);
});

test('labels are words with an equals sign', () => {
  expect(parseLabels('branch=main  commit=a=b half')).toEqual({ branch: 'main', commit: 'a=b' });
});
