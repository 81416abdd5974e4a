/** Numbers and times as people read them. Times of day are the browser's, on a 24-hour clock. */

const whole = new Intl.NumberFormat('en-GB', { maximumFractionDigits: 0 });
const fine = new Intl.NumberFormat('en-GB', { minimumFractionDigits: 1, maximumFractionDigits: 1 });

/** A count with its thousands apart. */
export function count(value: number): string {
  return whole.format(value);
}

/** A count and its noun, which takes an s: "1 session", "2,000 sessions". */
export function plural(value: number, noun: string): string {
  return `${count(value)} ${noun}${value === 1 ? '' : 's'}`;
}

/** A rate: one digit behind the point while it is small. */
export function rate(value: number): string {
  return value < 100 ? fine.format(value) : whole.format(value);
}

/** Bytes, in units of 1024. */
export function bytes(value: number): string {
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB'];
  let unit = 0;
  while (value >= 1024 && unit < units.length - 1) {
    value /= 1024;
    unit += 1;
  }
  return `${unit === 0 ? whole.format(value) : fine.format(value)} ${units[unit]}`;
}

/** A span of seconds in the unit that a person would choose. */
export function span(seconds: number): string {
  if (seconds < 120) return `${Math.max(0, Math.floor(seconds))} s`;
  if (seconds < 7_200) return `${Math.floor(seconds / 60)} min`;
  if (seconds < 172_800) return `${Math.floor(seconds / 3_600)} h`;
  return `${Math.floor(seconds / 86_400)} days`;
}

/** Time of day to the millisecond. */
export function precise(at: string): string {
  const time: Intl.DateTimeFormatOptions = { hour: '2-digit', minute: '2-digit', second: '2-digit' };
  return new Date(at).toLocaleTimeString('en-GB', { ...time, fractionalSecondDigits: 3 });
}

/** This moment, as the service writes times. */
export function now(): string {
  return new Date().toISOString();
}

/** Date and time of day. */
export function moment(at: string): string {
  return new Date(at).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'medium' });
}

/** The instant of a date and time that was chosen in the zone of whoever reads; empty if it is none. */
export function instant(local: string): string {
  const at = new Date(local);
  return Number.isNaN(at.getTime()) ? '' : at.toISOString();
}
