import type { Facts, Value } from '../types';
import type { Sample } from '../live';

export type Level = 'good' | 'doubtful' | 'bad';

/** "BadNoCommunication" as "no communication": what a person reads; the code stands beside it where there is room. */
export function statusWords(status: string): string {
  return status
    .replace(/^(Bad|Uncertain|Good)/, '')
    .replace(/([a-z])([A-Z])/g, '$1 $2')
    .toLowerCase();
}

export function levelOf(status: string | null): Level {
  if (!status) return 'good';
  return status.startsWith('Bad') ? 'bad' : status.startsWith('Uncertain') ? 'doubtful' : 'good';
}

/** As many digits as help: three or four that count, and no exponent where it can be helped. */
export function numberText(value: number, isWhole = Number.isInteger(value)): string {
  if (!Number.isFinite(value) || isWhole) return String(value);
  if (value === 0) return '0.00';
  const size = Math.abs(value);
  if (size >= 1e7 || size < 1e-4) return value.toExponential(3);
  return value.toFixed(size >= 100 ? 1 : size >= 1 ? 2 : 3 - Math.floor(Math.log10(size)) - 1);
}

export function valueText(value: Value, facts: Facts | null, text: string | null): string {
  if (value === null || value === undefined) return '';
  if (typeof value === 'boolean') return value ? (facts?.whenTrue ?? 'true') : (facts?.whenFalse ?? 'false');
  if (text !== null) return text.replace(/ \(-?\d+\)$/, '');
  // Of what may have a fraction, all show one, so that they stand below each other.
  if (typeof value === 'number') return facts?.kind === 'number' ? numberText(value, false) : numberText(value);
  if (typeof value === 'string' && facts?.kind === 'time') return new Date(value).toLocaleString('sv-SE');
  return typeof value === 'string' ? value : JSON.stringify(value);
}

export const sampleText = (sample: Sample | null) => (sample ? valueText(sample.value, sample.facts, sample.text) : '');

export function ageText(ms: number): string {
  if (ms < 0) ms = 0;
  if (ms < 1_000) return 'now';
  const s = Math.round(ms / 1_000);
  if (s < 90) return `${s} s`;
  if (s < 5_400) return `${Math.round(s / 60)} min`;
  if (s < 129_600) return `${Math.round(s / 3_600)} h`;
  return `${Math.round(s / 86_400)} d`;
}

export function clockText(ms: number | null): string {
  if (ms === null) return '';
  const date = new Date(ms);
  const time = date.toLocaleTimeString('en-GB');
  return date.toDateString() === new Date().toDateString() ? time : `${date.toLocaleDateString('sv-SE')} ${time}`;
}

export const dayText = (ms: number) => new Date(ms).toLocaleDateString('sv-SE');

/** A file for the browser to keep. */
export function download(name: string, type: string, text: string) {
  const url = URL.createObjectURL(new Blob([text], { type }));
  const link = document.createElement('a');
  link.href = url;
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(url), 1_000);
}

/** One field of CSV; what a spreadsheet would take for a formula is kept from being one. */
export function csvField(text: string): string {
  const safe = /^[=@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\n\r]/.test(safe) ? `"${safe.replace(/"/g, '""')}"` : safe;
}

export const nodeHref = (node: { path: string; id: string }) => `/node/${encodeURIComponent(node.path.startsWith('ns=') || node.path.startsWith('i=') ? node.id : node.path)}`;
