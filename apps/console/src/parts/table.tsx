import { useMemo, useRef, useState } from 'react';
import { Button, TextInput } from '@mantine/core';
import { flexRender, getCoreRowModel, getFilteredRowModel, getSortedRowModel, useReactTable, type ColumnDef, type SortingState } from '@tanstack/react-table';
import { useVirtualizer } from '@tanstack/react-virtual';
import { w } from '../words';
import { csvField, download } from './format';

/** A column of a list: how it looks, what it sorts, filters and exports by. */
export interface Column<Row> {
  name: string;
  of: (row: Row) => string | number;
  show?: (row: Row) => React.ReactNode;
  isNumber?: boolean;
  width?: number;
}

interface Props<Row> {
  rows: Row[];
  columns: Column<Row>[];
  keyOf: (row: Row) => string;
  exportAs?: string;
  empty: React.ReactNode;
  chosen?: Set<string>;
  onChoose?: (chosen: Set<string>) => void;
  tools?: React.ReactNode;
  height?: number | string;
  rowHeight?: number;
  label: string;
}

const kVirtualFrom = 100;

/** A list that filters as one types, sorts, lets many be chosen, and exports what is shown, however long it is. */
export function Table<Row>({ rows, columns, keyOf, exportAs, empty, chosen, onChoose, tools, height, rowHeight, label }: Props<Row>) {
  const [sorting, setSorting] = useState<SortingState>([]);
  const [filter, setFilter] = useState('');
  const defs = useMemo<ColumnDef<Row>[]>(
    () => columns.map((column, index) => ({ id: `${index} ${column.name}`, accessorFn: column.of, header: column.name, cell: ({ row }) => (column.show ?? column.of)(row.original) as React.ReactNode })),
    [columns],
  );
  const table = useReactTable({
    data: rows,
    columns: defs,
    state: { sorting, globalFilter: filter },
    onSortingChange: setSorting,
    onGlobalFilterChange: setFilter,
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
    getFilteredRowModel: getFilteredRowModel(),
    globalFilterFn: (row, id, words: string) => String(row.getValue(id)).toLowerCase().includes(words.toLowerCase()),
    getColumnCanGlobalFilter: () => true,
  });
  const shown = table.getRowModel().rows;
  const box = useRef<HTMLDivElement>(null);
  const size = rowHeight ?? 30;
  const isLong = shown.length > kVirtualFrom;
  const virtual = useVirtualizer({ count: shown.length, getScrollElement: () => box.current, estimateSize: () => size, overscan: 12, enabled: isLong });
  const items = isLong ? virtual.getVirtualItems() : null;
  const visible = items ? items.map((item) => shown[item.index]!) : shown;
  const before = items?.[0]?.start ?? 0;
  const after = items ? virtual.getTotalSize() - (items[items.length - 1]?.end ?? 0) : 0;

  const exportRows = () => {
    const lines = [columns.map((column) => csvField(column.name)).join(',')];
    for (const row of shown) lines.push(columns.map((column) => csvField(String(column.of(row.original)))).join(','));
    download(`${exportAs}.csv`, 'text/csv', lines.join('\r\n') + '\r\n');
  };
  const toggle = (key: string) => {
    const next = new Set(chosen);
    if (!next.delete(key)) next.add(key);
    onChoose?.(next);
  };
  const all = shown.length > 0 && shown.every((row) => chosen?.has(keyOf(row.original)));

  return (
    <div className="stack">
      <div className="bar">
        <TextInput aria-label={`${w.filter}: ${label}`} placeholder={w.filter} value={filter} onChange={(event) => setFilter(event.currentTarget.value)} w={190} />
        {tools}
        {exportAs && (
          <Button onClick={exportRows} disabled={shown.length === 0}>
            {w.exportCsv}
          </Button>
        )}
      </div>
      <div className="table-box" ref={box} style={{ maxHeight: height ?? (isLong ? '65vh' : undefined) }} tabIndex={0} role="region" aria-label={label}>
        <table className="rows">
          <thead>
            <tr>
              {onChoose && (
                <th style={{ width: 34 }}>
                  <input type="checkbox" aria-label={`${label}: ${w.alarms.all}`} checked={all} onChange={() => onChoose(all ? new Set() : new Set(shown.map((row) => keyOf(row.original))))} />
                </th>
              )}
              {table.getFlatHeaders().map((header, index) => {
                const sorted = header.column.getIsSorted();
                return (
                  <th key={header.id} className={columns[index]!.isNumber ? 'number' : ''} style={{ width: columns[index]!.width }} aria-sort={sorted ? (sorted === 'asc' ? 'ascending' : 'descending') : 'none'}>
                    {columns[index]!.name && (
                      <button className="sort" onClick={header.column.getToggleSortingHandler()}>
                        {flexRender(header.column.columnDef.header, header.getContext())}
                        {sorted === 'asc' ? ' ↑' : sorted === 'desc' ? ' ↓' : ''}
                      </button>
                    )}
                  </th>
                );
              })}
            </tr>
          </thead>
          <tbody>
            {before > 0 && (
              <tr aria-hidden="true">
                <td style={{ height: before, padding: 0 }} colSpan={columns.length + 1} />
              </tr>
            )}
            {visible.map((row) => {
              const key = keyOf(row.original);
              return (
                <tr key={key} aria-selected={chosen?.has(key)}>
                  {onChoose && (
                    <td>
                      <input type="checkbox" aria-label={key} checked={chosen?.has(key) ?? false} onChange={() => toggle(key)} />
                    </td>
                  )}
                  {row.getVisibleCells().map((cell, index) => (
                    <td key={cell.id} className={columns[index]!.isNumber ? 'number' : ''}>
                      {flexRender(cell.column.columnDef.cell, cell.getContext())}
                    </td>
                  ))}
                </tr>
              );
            })}
            {after > 0 && (
              <tr aria-hidden="true">
                <td style={{ height: after, padding: 0 }} colSpan={columns.length + 1} />
              </tr>
            )}
          </tbody>
        </table>
        {shown.length === 0 && empty}
      </div>
    </div>
  );
}
