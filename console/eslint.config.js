import js from '@eslint/js';
import hooks from 'eslint-plugin-react-hooks';
import ts from 'typescript-eslint';

export default ts.config(
  { ignores: ['dist', 'src/api/types.ts'] },
  js.configs.recommended,
  ...ts.configs.recommended,
  hooks.configs.flat.recommended,
  {
    rules: {
      '@typescript-eslint/no-explicit-any': 'error',
      'no-restricted-globals': ['error', { name: 'fetch', message: 'Queries live in <feature>Queries.ts, through api/client.' }],
    },
  },
  { files: ['src/api/client.ts'], rules: { 'no-restricted-globals': 'off' } },
);
