import js from '@eslint/js';
import a11y from 'eslint-plugin-jsx-a11y';
import hooks from 'eslint-plugin-react-hooks';
import ts from 'typescript-eslint';

export default ts.config(
  { ignores: ['dist', 'src/api/schema.d.ts', 'src/api/sheet.d.ts'] },
  js.configs.recommended,
  ...ts.configs.strictTypeChecked,
  a11y.flatConfigs.strict,
  {
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    plugins: { 'react-hooks': hooks },
    rules: {
      ...hooks.configs.recommended.rules,
      // Lists and maps are indexed by what was just looked at.
      '@typescript-eslint/no-non-null-assertion': 'off',
      '@typescript-eslint/no-confusing-void-expression': ['error', { ignoreArrowShorthand: true }],
      '@typescript-eslint/restrict-template-expressions': ['error', { allowNumber: true }],
      // What comes over the wire is looked at before it is trusted to be what its type says.
      '@typescript-eslint/no-unnecessary-condition': 'off',
      // A sheet holds texts and numbers where these ask what else there might be.
      '@typescript-eslint/no-base-to-string': 'off',
      // Texts are taken apart by code points on purpose.
      '@typescript-eslint/no-misused-spread': 'off',
      // What scrolls is reached by the keyboard.
      'jsx-a11y/no-noninteractive-tabindex': 'off',
      // The one field of a page that is there to be filled in.
      'jsx-a11y/no-autofocus': 'off',
      // Keys such as Enter and Ctrl+Z are heard by what holds the fields that they are pressed in.
      'jsx-a11y/no-static-element-interactions': 'off',
      'jsx-a11y/no-noninteractive-element-interactions': 'off',
    },
  },
  { files: ['**/*.js', '**/*.mjs'], ...ts.configs.disableTypeChecked },
);
