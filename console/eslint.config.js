import svelte from 'eslint-plugin-svelte';
import { defineConfig } from 'eslint/config';
import ts from 'typescript-eslint';

import svelteConfig from './svelte.config.js';

/** Floors from below: a folder imports what lies below it, and no other folder of its own floor. */
const floors = [['api', 'lib'], ['ui'], ['shell'], ['watch', 'work', 'design', 'run', 'links']];

const rooms = floors.flatMap((floor, level) =>
  floor.map((room) => {
    const closed = floors
      .slice(level)
      .flat()
      .filter((other) => other !== room);
    const group = closed.map((other) => `$${other}/*`);
    const message = `${room} stands below this, or beside it: move what both need further down.`;
    return {
      files: [`src/${room}/**`],
      rules: { 'no-restricted-imports': ['error', { patterns: [{ group: [...group, '../*'], message }] }] },
    };
  }),
);

export default defineConfig(
  { ignores: ['dist', 'src/api/schema.d.ts'] },
  ts.configs.recommended,
  svelte.configs.recommended,
  ...rooms,
  {
    files: ['**/*.svelte', '**/*.svelte.ts'],
    languageOptions: { parserOptions: { parser: ts.parser, svelteConfig } },
  },
);
