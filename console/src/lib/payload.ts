/** Payloads as people read them, and the numbers in them. */
import { diffLines } from 'diff';

/** JSON over several lines, other text as it is. */
export function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}

/** The numbers of a payload by their places: `level.m`, `0` for the first of a list, '' if it is a number itself. */
export function numbersOf(text: string): Map<string, number> {
  const found = new Map<string, number>();
  const visit = (value: unknown, place: string) => {
    if (typeof value === 'number') found.set(place, value);
    else if (value !== null && typeof value === 'object') {
      for (const [name, inner] of Object.entries(value))
        visit(inner, place === '' ? name : `${place}.${name}`);
    }
  };
  try {
    visit(JSON.parse(text), '');
  } catch {
    // Text that is no JSON holds no numbers, but may be one in another notation.
    const number = Number(text);
    if (text.trim() !== '' && Number.isFinite(number)) found.set('', number);
  }
  return found;
}

export interface Line {
  kind: 'same' | 'gone' | 'new';
  text: string;
}

/** What changed from one payload to another, line by line. */
export function difference(before: string, after: string): Line[] {
  return diffLines(pretty(before), pretty(after)).flatMap((part) => {
    const kind = part.added ? 'new' : part.removed ? 'gone' : 'same';
    return part.value
      .replace(/\n$/, '')
      .split('\n')
      .map((text): Line => ({ kind, text }));
  });
}

function inBase64(bytes: Iterable<number>): string {
  return btoa(Array.from(bytes, (byte) => String.fromCharCode(byte)).join(''));
}

/** Text as UTF-8, in Base64. */
export function encoded(text: string): string {
  return inBase64(new TextEncoder().encode(text));
}

/** How a payload is written. */
export type Encoding = 'text' | 'json' | 'hex' | 'base64';

/** The bytes that are written like this, in Base64, or what is wrong. */
export function toBase64(encoding: Encoding, text: string): { base64: string } | { wrong: string } {
  switch (encoding) {
    case 'json':
      try {
        JSON.parse(text);
      } catch (error) {
        return {
          wrong: `the payload is not JSON: ${error instanceof Error ? error.message : String(error)}`,
        };
      }
      return { base64: encoded(text) };
    case 'hex': {
      const digits = text.replace(/\s/g, '');
      if (/[^0-9a-f]/i.test(digits)) return { wrong: 'the payload is not hexadecimal' };
      if (digits.length % 2 === 1) return { wrong: 'the payload has an odd number of hexadecimal digits' };
      return { base64: inBase64((digits.match(/../g) ?? []).map((pair) => parseInt(pair, 16))) };
    }
    case 'base64':
      try {
        return { base64: btoa(atob(text.replace(/\s/g, ''))) };
      } catch {
        return { wrong: 'the payload is not Base64' };
      }
    case 'text':
      return { base64: encoded(text) };
  }
}

/** Bytes in lines of eight: place, hexadecimal, text where there is some. */
export function hexOf(bytes: Uint8Array): string {
  const lines: string[] = [];
  for (let place = 0; place < bytes.length; place += 8) {
    const part = [...bytes.subarray(place, place + 8)];
    const hex = part.map((byte) => byte.toString(16).padStart(2, '0')).join(' ');
    const text = part.map((byte) => (byte >= 0x20 && byte < 0x7f ? String.fromCharCode(byte) : '.')).join('');
    lines.push(`${place.toString(16).padStart(4, '0')}  ${hex.padEnd(23)}  ${text}`);
  }
  return lines.join('\n');
}
