// A table whose columns sort.

import {
  flexRender,
  getCoreRowModel,
  getSortedRowModel,
  useReactTable,
  type ColumnDef,
  type SortingState,
} from "@tanstack/react-table";
import { useState } from "react";

// Column says how a table shows something of a row. Without a value it does not sort.
export type Column<T> = {
  name: string;
  value?: (row: T) => string | number;
  cell: (row: T) => React.ReactNode;
  right?: boolean;
};

export function Table<T>(props: {
  label: string;
  rows: T[];
  columns: Column<T>[];
  sorted?: SortingState;
  keyOf: (row: T) => string;
  chosen?: (row: T) => boolean;
}) {
  const [sorting, setSorting] = useState<SortingState>(props.sorted ?? []);
  const columns: ColumnDef<T>[] = props.columns.map((c) => ({
    id: c.name,
    header: c.name,
    accessorFn: c.value ?? (() => ""),
    enableSorting: !!c.value,
    sortDescFirst: !!c.right,
    cell: ({ row }) => c.cell(row.original),
  }));
  // eslint-disable-next-line react-hooks/incompatible-library -- what it returns goes to no memoized component
  const table = useReactTable({
    data: props.rows,
    columns,
    state: { sorting },
    onSortingChange: setSorting,
    getRowId: props.keyOf,
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
  });
  const right = (name: string) => (props.columns.find((c) => c.name === name)?.right ? "text-right" : "");
  return (
    <table className="w-full border-collapse" aria-label={props.label}>
      <thead className="sticky top-0 z-10 bg-raised">
        {table.getHeaderGroups().map((group) => (
          <tr key={group.id} className="border-b border-muted">
            {group.headers.map((h) => {
              const way = h.column.getIsSorted();
              return (
                <th
                  key={h.id}
                  className={`px-3 py-1 ${right(h.id)}`}
                  aria-sort={way ? (way === "asc" ? "ascending" : "descending") : undefined}
                >
                  {h.column.getCanSort() ? (
                    <button className="cursor-pointer font-semibold" onClick={h.column.getToggleSortingHandler()}>
                      {flexRender(h.column.columnDef.header, h.getContext())}
                      <span aria-hidden="true" className="text-muted">
                        {{ asc: " ▴", desc: " ▾", false: "" }[String(way)]}
                      </span>
                    </button>
                  ) : (
                    flexRender(h.column.columnDef.header, h.getContext())
                  )}
                </th>
              );
            })}
          </tr>
        ))}
      </thead>
      <tbody>
        {table.getRowModel().rows.map((row) => (
          <tr key={row.id} className={`border-b border-line ${props.chosen?.(row.original) ? "bg-chosen" : ""}`}>
            {row.getVisibleCells().map((cell) => (
              <td key={cell.id} className={`px-3 py-0.5 ${right(cell.column.id)}`}>
                {flexRender(cell.column.columnDef.cell, cell.getContext())}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}
