import { useSyncExternalStore } from 'react';
import type { Sheet, WatchList } from '../types';

/** A list that is being watched. It stays in this browser until it is saved by a name. */
export interface Watched {
  name: string; // of the saved list that it began from; empty for a new one
  version: string; // of that
  base: string[]; // what that held
  nodes: string[];
}

const kKey = 'zunth watch list';
const kNew: Watched = { name: '', version: '', base: [], nodes: [] };
let state = read();
const listeners = new Set<() => void>();

function read(): Watched {
  try {
    const kept = JSON.parse(localStorage.getItem(kKey) ?? '') as Watched;
    const nodes = kept.nodes.filter((node) => typeof node === 'string');
    return { name: String(kept.name ?? ''), version: String(kept.version ?? ''), base: Array.isArray(kept.base) ? kept.base : nodes, nodes };
  } catch {
    return kNew;
  }
}

function set(next: Watched) {
  state = next;
  try {
    localStorage.setItem(kKey, JSON.stringify(next));
  } catch {
    // A browser that keeps nothing shows the list all the same.
  }
  for (const listener of listeners) listener();
}

const subscribe = (listener: () => void) => {
  listeners.add(listener);
  return () => listeners.delete(listener);
};

const isSame = (one: string[], other: string[]) => one.length === other.length && one.every((node, index) => node === other[index]);

/** How a list stands to the saved one of its name: which of the two was changed since they were the same. */
export function standing(list: Watched, saved: Sheet<WatchList> | undefined): 'new' | 'same' | 'here' | 'there' | 'both' | 'gone' {
  if (!list.name) return 'new';
  if (!saved) return 'gone';
  if (isSame(list.nodes, saved.content.nodes ?? [])) return list.version === saved.version ? 'same' : 'there';
  if (list.version === saved.version) return 'here';
  return isSame(list.nodes, list.base) ? 'there' : 'both';
}

export const removeFromList = (node: string) => set({ ...state, nodes: state.nodes.filter((one) => one !== node) });

export function useWatchList() {
  const list = useSyncExternalStore(subscribe, () => state);
  return {
    ...list,
    add: (node: string) => !state.nodes.includes(node) && set({ ...state, nodes: [...state.nodes, node] }),
    begin: (nodes: string[]) => set({ ...kNew, nodes }),
    open: (sheet: Sheet<WatchList>) => {
      const nodes = sheet.content.nodes ?? [];
      set({ name: sheet.name, version: sheet.version ?? '', base: nodes, nodes });
    },
    saved: (name: string, version: string, base: string[]) => set({ ...state, name, version, base }),
  };
}
