import { useMemo, useRef } from 'react';
import { Button } from '@mantine/core';
import { useVirtualizer } from '@tanstack/react-virtual';
import { w } from '../words';

/** The cells of a table's text (RFC 4180); quoted ones may hold the separator, quotes and line breaks. */
export function cellsOf(text: string, separator: string): string[][] {
  const rows: string[][] = [];
  let row: string[] = [];
  let cell = '';
  let isQuoted = false;
  for (let at = 0; at < text.length; ++at) {
    const letter = text[at]!;
    if (isQuoted) {
      if (letter !== '"') cell += letter;
      else if (text[at + 1] === '"') cell += text[++at];
      else isQuoted = false;
    } else if (letter === '"' && cell === '') {
      isQuoted = true;
    } else if (letter === separator) {
      row.push(cell);
      cell = '';
    } else if (letter === '\n') {
      rows.push([...row, cell]);
      row = [];
      cell = '';
    } else if (letter !== '\r' || text[at + 1] !== '\n') {
      cell += letter;
    }
  }
  if (cell !== '' || row.length > 0) rows.push([...row, cell]);
  return rows;
}

/** The text of such cells. */
export function textOf(rows: string[][], separator: string): string {
  const field = (cell: string) => (cell.includes(separator) || /["\n\r]/.test(cell) ? `"${cell.replace(/"/g, '""')}"` : cell);
  return rows.map((row) => row.map(field).join(separator) + '\n').join('');
}

/** What separates the cells of a table: what its first line has. */
export const separatorOf = (text: string) => [',', ';', '\t'].find((each) => text.split('\n', 1)[0]!.includes(each)) ?? ',';

/** The rows with what comes out of a spreadsheet put there, from one cell on; rows are added where there are too few. */
export function pasted(rows: string[][], block: string[][], top: number, left: number): string[][] {
  const width = Math.max(rows[0]?.length ?? 0, ...(top === 0 ? block.map((line) => left + line.length) : []));
  const out = rows.map((row) => [...row]);
  block.forEach((line, down) => {
    while (out.length <= top + down) out.push(Array<string>(width).fill(''));
    line.forEach((cell, across) => {
      if (left + across < width) out[top + down]![left + across] = cell;
    });
  });
  return out;
}

/** A table as one edits it: cell by cell, or many at once out of a spreadsheet. Its first line names the columns. */
export function Grid({ text, label, onChange }: { text: string; label: string; onChange: (text: string) => void }) {
  const separator = separatorOf(text);
  const rows = useMemo(() => {
    const all = cellsOf(text, separator);
    return all.length > 0 ? all : [['']];
  }, [text, separator]);
  const [head = [], ...body] = rows;
  // As wide as what is in them, by the first that are seen.
  const widths = useMemo(() => (rows[0] ?? []).map((_, column) => Math.min(48, Math.max(6, ...rows.slice(0, 200).map((cells) => (cells[column] ?? '').length))) + 3), [rows]);
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({ count: body.length, getScrollElement: () => box.current, estimateSize: () => 30, overscan: 20 });
  const items = virtual.getVirtualItems();
  const before = items[0]?.start ?? 0;
  const after = virtual.getTotalSize() - (items[items.length - 1]?.end ?? 0);
  const put = (changed: string[][]) => onChange(textOf(changed, separator));
  const set = (row: number, column: number, value: string) => put(rows.map((cells, at) => (at === row ? Array.from({ length: Math.max(head.length, cells.length) }, (_, place) => (place === column ? value : (cells[place] ?? ''))) : cells)));
  const go = (row: number, column: number) => {
    virtual.scrollToIndex(Math.max(0, row - 1));
    requestAnimationFrame(() => box.current?.querySelector<HTMLInputElement>(`input[data-cell="${row} ${column}"]`)?.focus());
  };
  const cell = (row: number, column: number) => (
    <input
      className="cell"
      data-cell={`${row} ${column}`}
      aria-label={row === 0 ? w.grid.column(column + 1) : `${head[column]} ${row}`}
      value={rows[row]?.[column] ?? ''}
      spellCheck={false}
      onChange={(event) => set(row, column, event.currentTarget.value)}
      onPaste={(event) => {
        const block = cellsOf(event.clipboardData.getData('text/plain'), '\t');
        if (block.length < 2 && (block[0]?.length ?? 0) < 2) return; // one value goes where the caret is
        event.preventDefault();
        put(pasted(rows, block, row, column));
      }}
      onKeyDown={(event) => {
        if (event.key === 'ArrowDown' || (event.key === 'Enter' && !event.shiftKey)) go(Math.min(row + 1, rows.length - 1), column);
        else if (event.key === 'ArrowUp' || event.key === 'Enter') go(Math.max(row - 1, 0), column);
        else return;
        event.preventDefault();
      }}
    />
  );
  return (
    <div className="stack">
      <div className="bar">
        <Button size="xs" onClick={() => put([...rows, head.map(() => '')])}>
          {w.grid.addRow}
        </Button>
        <span className="soft">{w.grid.hint}</span>
      </div>
      <div className="table-box" ref={box} style={{ maxHeight: '60vh' }} tabIndex={0} role="region" aria-label={label}>
        <table className="rows grid">
          <thead>
            <tr>
              <th style={{ width: 46 }} />
              {head.map((_, column) => (
                <th key={column} style={{ width: `${widths[column]}ch` }}>
                  {cell(0, column)}
                </th>
              ))}
              <th style={{ width: 34 }} />
            </tr>
          </thead>
          <tbody>
            {before > 0 && (
              <tr aria-hidden="true">
                <td style={{ height: before, padding: 0 }} colSpan={head.length + 2} />
              </tr>
            )}
            {items.map(({ index }) => (
              <tr key={index}>
                <td className="soft number">{index + 1}</td>
                {head.map((_, column) => (
                  <td key={column}>{cell(index + 1, column)}</td>
                ))}
                <td>
                  <button className="plain-link" aria-label={`${w.remove}: ${index + 1}`} onClick={() => put(rows.filter((_, row) => row !== index + 1))}>
                    ×
                  </button>
                </td>
              </tr>
            ))}
            {after > 0 && (
              <tr aria-hidden="true">
                <td style={{ height: after, padding: 0 }} colSpan={head.length + 2} />
              </tr>
            )}
          </tbody>
        </table>
      </div>
    </div>
  );
}
