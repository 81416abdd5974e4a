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
