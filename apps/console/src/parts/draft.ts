import { useCallback, useEffect, useRef, useState } from 'react';
import { post } from '../api';

const kPause = 600; // ms without typing, after which it is kept

/** A file of the site that is being changed: what is typed is kept at the service as its draft, a moment later. */
export function useDraft(name: string, onKept: () => void) {
  const [state, setState] = useState<'saved' | 'saving' | 'typing'>('saved');
  const [round, setRound] = useState(0);
  const [error, setError] = useState<unknown>(null);
  const version = useRef('');
  const latest = useRef<string | null>(null);
  const isKeeping = useRef(false);

  const keep = useCallback(async () => {
    if (isKeeping.current) return;
    isKeeping.current = true;
    // What was typed while an older text was on its way goes after it.
    while (latest.current !== null) {
      const wanted: string = latest.current;
      latest.current = null;
      setState('saving');
      try {
        const now = await post<{ version: string }>('drafts', { name, text: wanted, version: version.current });
        version.current = now.version;
        setError(null);
        if (latest.current === null) setState('saved');
      } catch (refused) {
        setError(refused);
        break;
      }
    }
    isKeeping.current = false;
    onKept();
  }, [name, onKept]);
  useEffect(() => {
    if (state !== 'typing') return;
    const timer = setTimeout(() => void keep(), kPause);
    return () => clearTimeout(timer);
  }, [state, round, keep]);
  // Nothing that was typed is lost by going elsewhere.
  useEffect(() => () => void (latest.current !== null && keep()), [keep]);

  /** The version that is looked at, and changed from now on. */
  const begin = useCallback((at: string) => {
    version.current = at;
    latest.current = null;
    setState('saved');
    setError(null);
  }, []);
  const type = useCallback((text: string) => {
    latest.current = text;
    setRound((before) => before + 1);
    setState('typing');
  }, []);
  /** What was typed last goes nowhere. */
  const forget = useCallback(() => {
    latest.current = null;
    setState('saved');
  }, []);
  return { state, error, setError, begin, type, forget };
}
