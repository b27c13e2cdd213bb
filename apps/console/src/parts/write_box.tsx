import { useState } from 'react';
import { Button, NumberInput, Select, Switch, TextInput } from '@mantine/core';
import { post } from '../api';
import { useLive } from '../live';
import type { Facts, Refusal, TypeFacts, Value } from '../types';
import { w } from '../words';
import { Refused } from './status';
import { ApiError } from '../api';

interface Outcome {
  node: string;
  status: string;
  error?: Refusal;
}

/** Writes one value; throws what it was refused with. */
export async function writeValue(node: string, value: Value) {
  const { outcomes } = await post<{ outcomes: Outcome[] }>('write', { values: [{ node, value }] });
  const error = outcomes[0]?.error;
  if (error) throw new ApiError(error, 400);
}

/** A field for a value of this type, as fits it best. */
export function ValueField({ facts, value, onChange, label, onEnter }: { facts: TypeFacts & Partial<Facts>; value: string; onChange: (value: string) => void; label: string; onEnter?: () => void }) {
  const keyDown = (event: React.KeyboardEvent) => event.key === 'Enter' && onEnter?.();
  if (facts.valueRank < 0 && facts.members?.length)
    return <Select aria-label={label} data={facts.members.map((member) => ({ value: member.name, label: member.name }))} value={value || null} onChange={(name) => onChange(name ?? '')} w={180} />;
  if (facts.valueRank < 0 && facts.kind === 'boolean')
    return <Switch aria-label={label} checked={value === 'true'} onChange={(event) => onChange(String(event.currentTarget.checked))} label={value === 'true' ? (facts.whenTrue ?? 'true') : (facts.whenFalse ?? 'false')} />;
  if (facts.valueRank < 0 && (facts.kind === 'number' || facts.kind === 'integer')) {
    const range = facts.limits ?? facts.range;
    return (
      <NumberInput aria-label={label} value={value} onChange={(number) => onChange(String(number))} onKeyDown={keyDown} w={160} size="sm" allowDecimal={facts.kind === 'number'}
        description={range ? `${range.low} … ${range.high}${facts.unit ? ` ${facts.unit}` : ''}` : undefined} inputWrapperOrder={['label', 'input', 'description']} />
    );
  }
  return <TextInput aria-label={label} value={value} onChange={(event) => onChange(event.currentTarget.value)} onKeyDown={keyDown} w={240} />;
}

/** Takes a value and writes it. */
export function WriteBox({ node, facts }: { node: string; facts: Facts }) {
  const sample = useLive(node);
  const [text, setText] = useState<string | null>(null);
  // While somebody is in the field, what changes at the device does not change it under their hands.
  const [held, setHeld] = useState<string | null>(null);
  const [error, setError] = useState<unknown>(null);
  const [isWritten, setWritten] = useState(false);
  const [isBusy, setBusy] = useState(false);
  const now = sample && sample.value !== null ? (facts.members?.length ? (facts.members.find((m) => m.value === sample.value)?.name ?? '') : typeof sample.value === 'object' ? JSON.stringify(sample.value) : String(sample.value)) : '';
  const shown = text ?? held ?? now;
  const write = async () => {
    setBusy(true);
    try {
      await writeValue(node, shown);
      setText(null);
      setHeld(null);
      setError(null);
      setWritten(true);
      setTimeout(() => setWritten(false), 2_000);
    } catch (refused) {
      setError(refused);
    } finally {
      setBusy(false);
    }
  };
  return (
    <div className="stack">
      <div className="bar" style={{ alignItems: 'flex-start' }}>
        <div onFocusCapture={() => setHeld(now)} onBlurCapture={() => setHeld(null)}>
          <ValueField facts={facts} value={shown} onChange={setText} label={w.node.writeThis} onEnter={write} />
        </div>
        <Button onClick={write} loading={isBusy} variant="filled">
          {w.node.write}
        </Button>
        {isWritten && <span className="mark" data-level="good" role="status">{w.node.written}</span>}
      </div>
      {error !== null && <Refused error={error} />}
    </div>
  );
}
