import { useEffect, useMemo, useRef, useState } from 'react';
import { Link } from 'wouter';
import { useVirtualizer } from '@tanstack/react-virtual';
import { get } from '../api';
import type { NodeBrief } from '../types';
import { w } from '../words';
import { Icon } from './icons';
import { LiveUnit, LiveValue, Refused } from './status';
import { nodeHref } from './format';

interface Line {
  node: NodeBrief;
  depth: number;
  more?: { of: string; from: number }; // in place of a node: where the list goes on
}

interface Below {
  nodes: NodeBrief[];
  next: number | null;
}

// What was unfolded stays so while one goes elsewhere and comes back.
const unfolded = new Map<string, Set<string>>();

/** The nodes below one, unfolding as wished; each variable shows its value as it is now. */
export function Outline({ root, height, skipProperties }: { root: string; height?: number | string; skipProperties?: boolean }) {
  const [below, setBelow] = useState<Map<string, Below>>(new Map());
  const [open, setOpen] = useState<Set<string>>(() => unfolded.get(root) ?? new Set());
  const [error, setError] = useState<unknown>(null);
  const box = useRef<HTMLDivElement>(null);

  const load = async (id: string, from = 0) => {
    try {
      const page = await get<Below>('children', { node: id, from, most: 500 });
      // What is the plant's own comes before what every server has.
      if (id === 'i=85') page.nodes.sort((a, b) => Number(a.id.startsWith('i=')) - Number(b.id.startsWith('i=')));
      setBelow((map) => new Map(map).set(id, { nodes: [...(from ? (map.get(id)?.nodes ?? []) : []), ...page.nodes], next: page.next }));
      setError(null);
    } catch (refused) {
      setError(refused);
    }
  };
  useEffect(() => {
    setBelow(new Map());
    const before = unfolded.get(root) ?? new Set<string>();
    setOpen(before);
    void load(root);
    for (const id of before) void load(id);
  }, [root]);

  const lines = useMemo(() => {
    const out: Line[] = [];
    const add = (id: string, depth: number) => {
      const list = below.get(id);
      for (const node of list?.nodes ?? []) {
        if (skipProperties && node.isProperty) continue;
        out.push({ node, depth });
        if (open.has(node.id)) add(node.id, depth + 1);
      }
      if (list && list.next !== null) out.push({ node: { id: `${id} more`, name: w.plant.more } as NodeBrief, depth, more: { of: id, from: list.next } });
    };
    add(root, 0);
    return out;
  }, [below, open, root, skipProperties]);

  const toggle = (node: NodeBrief) => {
    const next = new Set(open);
    if (!next.delete(node.id)) {
      next.add(node.id);
      if (!below.has(node.id)) void load(node.id);
    }
    unfolded.set(root, next);
    setOpen(next);
  };
  const virtual = useVirtualizer({ count: lines.length, getScrollElement: () => box.current, estimateSize: () => (matchMedia('(pointer: coarse)').matches ? 44 : 28), overscan: 10 });

  const move = (event: React.KeyboardEvent, line: Line, index: number) => {
    const focus = (to: number) => {
      virtual.scrollToIndex(to);
      requestAnimationFrame(() => box.current?.querySelector<HTMLElement>(`[data-index="${to}"] a, [data-index="${to}"] button`)?.focus());
    };
    if (event.key === 'ArrowDown' && index + 1 < lines.length) focus(index + 1);
    else if (event.key === 'ArrowUp' && index > 0) focus(index - 1);
    else if (event.key === 'ArrowRight' && line.node.hasChildren && !open.has(line.node.id)) toggle(line.node);
    else if (event.key === 'ArrowLeft' && open.has(line.node.id)) toggle(line.node);
    else return;
    event.preventDefault();
  };

  if (error && lines.length === 0) return <Refused error={error} />;
  return (
    <div className="outline" ref={box} style={{ height: height ?? Math.min(Math.max(lines.length, 1) * 29 + 2, 480) }} role="tree" aria-label={w.plant.title} tabIndex={0}>
      {lines.length === 0 && below.has(root) && <div className="empty">{w.plant.empty}</div>}
      <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
        {virtual.getVirtualItems().map((item) => {
          const line = lines[item.index]!;
          const { node, depth, more } = line;
          return (
            <div
              key={node.id}
              className="line"
              data-index={item.index}
              role="treeitem"
              aria-level={depth + 1}
              aria-expanded={node.hasChildren ? open.has(node.id) : undefined}
              style={{ position: 'absolute', top: item.start, left: 0, right: 0 }}
              onKeyDown={(event) => move(event, line, item.index)}
              draggable={!more && node.class === 'Variable'}
              onDragStart={(event) => event.dataTransfer.setData('text/plain', node.path)}
            >
              <span className="name" style={{ paddingLeft: 6 + depth * 20 }}>
                {more ? (
                  <button className="fold" style={{ width: 'auto' }} onClick={() => load(more.of, more.from)}>
                    {w.plant.more}
                  </button>
                ) : (
                  <>
                    {node.hasChildren ? (
                      <button className="fold" aria-label={`${open.has(node.id) ? w.plant.fold : w.plant.open}: ${node.name}`} onClick={() => toggle(node)} tabIndex={-1}>
                        <Icon name={open.has(node.id) ? 'unfold' : 'fold'} size={14} />
                      </button>
                    ) : (
                      <span className="fold" />
                    )}
                    <Link href={nodeHref(node)} title={node.displayName}>
                      {node.name}
                    </Link>
                  </>
                )}
              </span>
              <span className="number cut">{node.class === 'Variable' && node.facts?.isReadable && <LiveValue node={node.id} />}</span>
              <span style={{ paddingLeft: 6 }}>{node.class === 'Variable' && <LiveUnit node={node.id} />}</span>
              <span className="type">{more ? '' : node.class === 'Variable' ? node.facts?.dataType : node.type || node.class}</span>
            </div>
          );
        })}
      </div>
    </div>
  );
}
