import js from '@eslint/js'
import svelte from 'eslint-plugin-svelte'
import globals from 'globals'
import ts from 'typescript-eslint'
import svelteConfig from './svelte.config.js'

export default ts.config(
  { ignores: ['dist', 'node_modules', 'src/api/schema.d.ts'] },
  js.configs.recommended,
  ...ts.configs.recommended,
  ...svelte.configs.recommended,
  {
    languageOptions: { globals: { ...globals.browser, ...globals.node } },
    rules: {
      'no-useless-assignment': 'off',
      'no-undef': 'off',
      'svelte/no-navigation-without-resolve': 'off',
      // There are no stores here (server state is in the query cache), and asking of every name
      // whether it is one took nine tenths of the time.
      'svelte/require-store-reactive-access': 'off',
      // Wants the types of the whole project, half of eslint's time; what is taken apart and not
      // used is found by the compiler.
      'svelte/no-unused-props': 'off',
      'no-restricted-imports': [
        'error',
        {
          paths: [
            {
              name: 'svelte/store',
              message: 'Server state is in the query cache; use runes for the rest.',
            },
          ],
        },
      ],
    },
  },
  {
    files: ['**/*.svelte', '**/*.svelte.ts'],
    languageOptions: {
      parserOptions: {
        extraFileExtensions: ['.svelte'],
        parser: ts.parser,
        svelteConfig,
      },
    },
  },
)
