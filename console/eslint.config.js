// What the console's source must keep to, besides its types: mistakes that types don't show, the rules of hooks, what screen readers and
// keyboards need, and the length of lines.
import stylistic from '@stylistic/eslint-plugin';
import a11y from 'eslint-plugin-jsx-a11y';
import hooks from 'eslint-plugin-react-hooks';
import ts from 'typescript-eslint';

export default ts.config(
  { ignores: ['dist', 'node_modules', 'src/data/api.gen.ts'] },
  ts.configs.recommendedTypeChecked,
  hooks.configs.flat.recommended,
  a11y.flatConfigs.recommended,
  {
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    plugins: { '@stylistic': stylistic },
    linterOptions: { reportUnusedDisableDirectives: 'error' },
    rules: {
      '@stylistic/max-len': ['error', { code: 140, ignoreUrls: true }],
      'react-hooks/incompatible-library': 'off', // of React's compiler, which is not used here
      'react-hooks/preserve-manual-memoization': 'off', // the same
      'jsx-a11y/no-autofocus': 'off', // the field of a sheet or form that a person has just opened
    },
  },
  { files: ['*.js'], extends: [ts.configs.disableTypeChecked] },
);
