import { useEffect, useState } from 'react';
import { useLive, type Sample } from '../live';
import type { Refusal } from '../types';
import { ApiError } from '../api';
import { w } from '../words';
import { levelOf, sampleText, statusWords, type Level } from './format';

const marks: Record<Level, JSX.Element> = {
  good: <circle cx="6" cy="6" r="4" fill="currentColor" />,
  doubtful: <path d="M6 1 11.500 11H.5z" fill="none" stroke="currentColor" strokeWidth="1.600" />,
  bad: <path d="M1.500 1.500h9v9h-9zM3.500 3.500l5 5M8.500 3.500l-5 5" fill="none" stroke="currentColor" strokeWidth="1.600" />,
};

/** A shape, a word and a colour, in that order. */
export function Mark({ level, children }: { level: Level | 'plain'; children: React.ReactNode }) {
  return (
    <span className="mark" data-level={level}>
      {level !== 'plain' && (
        <svg width="12" height="12" viewBox="0 0 12 12" aria-hidden="true">
          {marks[level]}
        </svg>
      )}
      {children}
    </span>
  );
}

export function StatusMark({ sample, quiet }: { sample: Sample | null; quiet?: boolean }) {
  if (sample?.error) return <Mark level="bad">{sample.error.cause || statusWords(sample.error.code)}</Mark>;
  if (!sample || sample.changes === 0) return quiet ? null : <Mark level="plain">{w.status.waiting}</Mark>;
  const level = levelOf(sample.status);
  if (level === 'good' && quiet) return null;
  return (
    <span title={sample.status ?? 'Good'}>
      <Mark level={level}>{sample.status ? statusWords(sample.status) : w.status.good}</Mark>
    </span>
  );
}

/** A value as it is now, or what keeps it from being one; it lights up when it changes. */
export function LiveValue({ node }: { node: string }) {
  const sample = useLive(node);
  if (!sample) return <span className="soft">…</span>;
  const bad = levelOf(sample.status) === 'bad';
  if (sample.error || bad) return <StatusMark sample={sample} />;
  return (
    <span className="value" data-fresh={sample.lit > 1 ? 1 + (sample.lit % 2) : undefined}>
      {sampleText(sample)}
      {levelOf(sample.status) === 'doubtful' && (
        <>
          {' '}
          <StatusMark sample={sample} />
        </>
      )}
    </span>
  );
}

export function LiveUnit({ node }: { node: string }) {
  return <span className="soft">{useLive(node)?.facts?.unit ?? ''}</span>;
}

/** Tells the time again every second. */
export function useNow(every = 1_000): number {
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), every);
    return () => clearInterval(timer);
  }, [every]);
  return now;
}

export function refusalOf(error: unknown): Refusal {
  if (error instanceof ApiError) return error.refusal;
  return { code: 'BadUnexpectedError', cause: error instanceof Error ? error.message : String(error), next: '' };
}

/** Who refused, why, and what to do next. */
export function Refused({ error }: { error: unknown }) {
  const refusal = refusalOf(error);
  return (
    <div className="refusal" role="alert">
      <div>
        {refusal.cause || statusWords(refusal.code)} <span className="code">({refusal.code})</span>
      </div>
      {refusal.next && (
        <div className="soft">
          {w.next}: {refusal.next}
        </div>
      )}
    </div>
  );
}

export function Empty({ title, children }: { title: string; children?: React.ReactNode }) {
  return (
    <div className="empty">
      <h2>{title}</h2>
      <div>{children}</div>
    </div>
  );
}
