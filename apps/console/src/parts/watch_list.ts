import { useSyncExternalStore } from 'react';

// The list that is being watched, kept in this browser until it is saved by a name.
const kKey = 'zunth watch list';
let state: { name: string; nodes: string[] } = read();
const listeners = new Set<() => void>();

function read(): { name: string; nodes: string[] } {
  try {
    const kept = JSON.parse(localStorage.getItem(kKey) ?? '') as { name: string; nodes: string[] };
    return { name: String(kept.name ?? ''), nodes: kept.nodes.filter((node) => typeof node === 'string') };
  } catch {
    return { name: '', nodes: [] };
  }
}

function set(next: typeof state) {
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

export const removeFromList = (node: string) => set({ ...state, nodes: state.nodes.filter((one) => one !== node) });

export function useWatchList() {
  const { name, nodes } = useSyncExternalStore(subscribe, () => state);
  return {
    name,
    nodes,
    add: (node: string) => !state.nodes.includes(node) && set({ ...state, nodes: [...state.nodes, node] }),
    open: (listName: string, list: string[]) => set({ name: listName, nodes: list }),
  };
}
