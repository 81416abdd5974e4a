import { describe, expect, it } from 'vitest';

import { difference, encoded, numbersOf, pretty, toBase64 } from '$lib/payload';
import { programs, SECRET, type Connecting } from '$work/programs';

describe('payloads', () => {
  it('give their numbers by their places', () => {
    expect([...numbersOf('{"level": {"m": 1.83}, "list": [7, "x"], "good": true}')]).toEqual([
      ['level.m', 1.83],
      ['list.0', 7],
    ]);
    expect([...numbersOf('1.83')]).toEqual([['', 1.83]]);
    expect([...numbersOf('.5')]).toEqual([['', 0.5]]);
    for (const none of ['', ' ', 'online', '{"m": ', '"7"']) expect(numbersOf(none).size).toBe(0);
  });

  it('are compared line by line, as they are shown', () => {
    expect(pretty('{"m":1}')).toBe('{\n  "m": 1\n}');
    expect(
      difference('{"m":1,"q":"good"}', '{"q":"good","m":2}').map(({ kind, text }) => `${kind} ${text}`),
    ).toEqual([
      'same {',
      'gone   "m": 1,',
      'gone   "q": "good"',
      'new   "q": "good",',
      'new   "m": 2',
      'same }',
    ]);
    expect(difference('on', 'on')).toEqual([{ kind: 'same', text: 'on' }]);
  });

  it('are read in each form, or it is said what is wrong', () => {
    expect(toBase64('hex', '00 fF')).toEqual({ base64: 'AP8=' });
    expect(toBase64('base64', 'AP8=\n')).toEqual({ base64: 'AP8=' });
    expect(toBase64('text', 'é')).toEqual({ base64: 'w6k=' });
    expect(toBase64('json', '{"m": 1}')).toEqual({ base64: encoded('{"m": 1}') });
    for (const [form, text] of [
      ['hex', '0'],
      ['hex', 'zz'],
      ['base64', '?'],
      ['json', '{'],
    ] as const)
      expect(toBase64(form, text)).toHaveProperty('wrong');
  });
});

describe('programs', () => {
  const connecting: Connecting = {
    host: 'broker.harrowmere.example',
    port: 8883,
    secure: true,
    identity: 'kettle-weir',
    clientId: "weir's",
    topic: 'harrowmere/gorge/kettle-weir/status',
    payload: 'say "on"',
    filter: '',
  };

  it('say whom to trust, and quote what they are given', () => {
    const all = programs(connecting);
    for (const { name, text } of all) {
      expect(text, name).toContain('broker.harrowmere.example');
      expect(text, name).toContain('authority.p');
      expect(text.includes(SECRET), name).toBe(name !== 'Command line');
    }
    const shell = all[0]?.text ?? '';
    expect(shell).toContain(`'weir'\\''s'`);
    expect(shell).toContain(`'say "on"'`);
    expect(shell).not.toContain('subscribe');
    expect(all[1]?.text).toContain('"say \\"on\\""');
  });

  it('need no TLS where there is none', () => {
    for (const { name, text } of programs({ ...connecting, secure: false, filter: 'harrowmere/#' })) {
      expect(text, name).not.toContain('authority');
      expect(text, name).toContain('harrowmere/#');
    }
  });
});
