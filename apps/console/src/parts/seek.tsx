import { useEffect, useState } from 'react';
import { Modal, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useLocation } from 'wouter';
import { useQuery } from '@tanstack/react-query';
import { get } from '../api';
import type { Device, NodeBrief } from '../types';
import { w } from '../words';
import { nodeHref } from './format';
import { Icon } from './icons';

export interface Place {
  name: string;
  where: string;
  what: string;
  href: string;
  node?: NodeBrief;
}

/** Nodes that fit some words, as one types. */
export function useSeek(words: string, only?: (node: NodeBrief) => boolean): { places: Place[]; isSettled: boolean } {
  const wanted = words.trim();
  const [settled] = useDebouncedValue(wanted, 120);
  const found = useQuery({
    queryKey: ['search', settled],
    queryFn: () => get<{ nodes: NodeBrief[] }>('search', { words: settled, most: 40 }),
    enabled: settled.length > 0,
    staleTime: 10_000,
  });
  // What was found for other words is not offered: Enter would take it.
  const isSettled = settled === wanted && !found.isFetching;
  if (!wanted || settled !== wanted) return { places: [], isSettled };
  const places = (found.data?.nodes ?? [])
    .filter((node) => !only || only(node))
    .map((node) => ({ name: node.name, where: node.path, what: node.class, href: nodeHref(node), node }));
  return { places, isSettled };
}

/** A list of places that the arrow keys go through. */
export function Choices({ places, at, onPick, onHover }: { places: Place[]; at: number; onPick: (place: Place) => void; onHover: (at: number) => void }) {
  useEffect(() => {
    void document.getElementById(`choice-${at}`)?.scrollIntoView({ block: 'nearest' });
  }, [at]);
  return (
    <div role="listbox" aria-label={w.head.seek} id="choices" style={{ maxHeight: 360, overflow: 'auto' }}>
      {places.map((place, index) => (
        <div
          key={place.href + place.what}
          id={`choice-${index}`}
          role="option"
          aria-selected={index === at}
          onMouseEnter={() => onHover(index)}
          onMouseDown={(event) => {
            event.preventDefault();
            onPick(place);
          }}
          style={{ padding: '5px 10px', borderRadius: 5, cursor: 'pointer', background: index === at ? 'var(--teal-soft)' : undefined }}
        >
          <div style={{ display: 'flex', gap: 8 }}>
            <strong>{place.name}</strong>
            <span className="soft" style={{ marginLeft: 'auto' }}>
              {place.what}
            </span>
          </div>
          <div className="soft" style={{ fontSize: 12, overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' }}>
            {place.where}
          </div>
        </div>
      ))}
    </div>
  );
}

function useKeys(places: Place[], pick: (place: Place) => void) {
  const [at, setAt] = useState(0);
  useEffect(() => setAt(0), [places.length, places[0]?.href]);
  const keyDown = (event: React.KeyboardEvent) => {
    if (event.key === 'ArrowDown') setAt((old) => Math.min(old + 1, places.length - 1));
    else if (event.key === 'ArrowUp') setAt((old) => Math.max(old - 1, 0));
    else if (event.key === 'Enter' && places[at]) pick(places[at]);
    else return;
    event.preventDefault();
  };
  return { at, setAt, keyDown };
}

/** A field by which a node is named and taken: by typing, or by dropping it there. */
export function NodePicker({ label, onPick, only }: { label: string; onPick: (node: { id: string; path: string }) => void; only?: (node: NodeBrief) => boolean }) {
  const [words, setWords] = useState('');
  const [isOpen, setOpen] = useState(false);
  const { places, isSettled } = useSeek(words, only);
  const pick = (place: Place) => {
    if (place.node) onPick(place.node);
    setWords('');
  };
  const { at, setAt, keyDown } = useKeys(places, pick);
  return (
    <div style={{ position: 'relative', width: 320, maxWidth: '100%' }}>
      <TextInput
        aria-label={label}
        placeholder={label}
        value={words}
        onChange={(event) => setWords(event.currentTarget.value)}
        onFocus={() => setOpen(true)}
        onBlur={() => setOpen(false)}
        onKeyDown={keyDown}
        onDragOver={(event) => event.preventDefault()}
        onDrop={(event) => {
          event.preventDefault();
          const path = event.dataTransfer.getData('text/plain');
          if (path) onPick({ id: path, path });
        }}
        role="combobox"
        aria-expanded={isOpen && places.length > 0}
        aria-controls="choices"
      />
      {isOpen && words.trim() && (
        <div className="card" style={{ position: 'absolute', top: '100%', left: 0, right: 0, zIndex: 20, padding: 4, boxShadow: '0 6px 24px #0003' }}>
          {places.length ? (
            <Choices places={places} at={at} onPick={pick} onHover={setAt} />
          ) : (
            <div className="empty" style={{ padding: 10 }}>
              {isSettled ? w.seek.none : w.loading}
            </div>
          )}
        </div>
      )}
    </div>
  );
}

/** One search for everything, from everywhere. */
export function Seek({ isOpen, onClose }: { isOpen: boolean; onClose: () => void }) {
  const [words, setWords] = useState('');
  const [, go] = useLocation();
  const { places: nodes, isSettled } = useSeek(words);
  const devices = useQuery({ queryKey: ['devices'], queryFn: () => get<{ devices: Device[] }>('devices'), enabled: isOpen });
  const low = words.trim().toLowerCase();
  const pages: Place[] = Object.entries(w.nav)
    .filter(([, name]) => low && name.toLowerCase().includes(low))
    .map(([key, name]) => ({ name, where: '', what: w.seek.page, href: key === 'overview' ? '/' : `/${key}` }));
  const machines: Place[] = (devices.data?.devices ?? [])
    .filter((one) => low && one.device.toLowerCase().includes(low))
    .map((one) => ({ name: one.device, where: one.address, what: w.seek.device, href: `/devices/${encodeURIComponent(one.device)}` }));
  const places = [...pages, ...machines, ...nodes];
  const pick = (place: Place) => {
    onClose();
    setWords('');
    go(place.href);
  };
  const { at, setAt, keyDown } = useKeys(places, pick);
  return (
    <Modal.Root opened={isOpen} onClose={onClose} size="lg" padding="sm" yOffset="8vh">
      <Modal.Overlay />
      <Modal.Content aria-label={w.head.seek}>
        <Modal.Body>
      <TextInput
        data-autofocus
        aria-label={w.head.seek}
        placeholder={w.seek.hint}
        leftSection={<Icon name="seek" size={16} />}
        value={words}
        onChange={(event) => setWords(event.currentTarget.value)}
        onKeyDown={keyDown}
        role="combobox"
        aria-expanded={places.length > 0}
        aria-controls="choices"
      />
      <div style={{ marginTop: 8 }}>
        {places.length > 0 && <Choices places={places} at={at} onPick={pick} onHover={setAt} />}
        {low && places.length === 0 && <div className="empty">{isSettled ? w.seek.none : w.loading}</div>}
      </div>
        </Modal.Body>
      </Modal.Content>
    </Modal.Root>
  );
}
