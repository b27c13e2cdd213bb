import type { OperatorPage, Sheet } from '../types';

// A page without a saved one to be a draft of: it stays in this browser until it is saved or dropped.
const kKey = 'zunth new page';

export function keptPage(): Sheet<OperatorPage> | null {
  try {
    const kept = JSON.parse(localStorage.getItem(kKey) ?? '') as Sheet<OperatorPage>;
    return typeof kept.name === 'string' && Array.isArray(kept.content.widgets) ? kept : null;
  } catch {
    return null;
  }
}

export function keepPage(page: Sheet<OperatorPage> | null) {
  try {
    if (page) localStorage.setItem(kKey, JSON.stringify(page));
    else localStorage.removeItem(kKey);
  } catch {
    // A browser that keeps nothing asks before it is closed.
  }
}
