// A table that is copied is pasted into a sheet as columns.
import { useEffect } from 'react';

/** A cell as a sheet takes it: one line, and nothing that a sheet would work out. */
function cell(text: string) {
  const plain = text.replace(/[▸▾]/g, '').replace(/\s+/g, ' ').trim();
  return /^[=+\-@]/.test(plain) ? `'${plain}` : plain;
}

export function asColumns(rows: string[][]) {
  return rows.map((r) => r.map(cell).join('\t')).join('\n');
}

/** The rows of tables that are selected, where there are several, cell by cell. */
function selectedRows(): string[][] {
  const selection = document.getSelection();
  if (!selection || selection.isCollapsed) return [];
  return [...document.querySelectorAll('[role=row], tr')]
    .filter((row) => selection.containsNode(row, true))
    .map((row) =>
      [...row.querySelectorAll<HTMLElement>('[role=gridcell], [role=columnheader], [role=rowheader], th, td')].map(
        (c) => c.innerText,
      ),
    )
    .filter((cells) => cells.length > 1);
}

/** Gives what is copied out of a table as columns. */
export function useColumns() {
  useEffect(() => {
    const onCopy = (e: ClipboardEvent) => {
      const rows = selectedRows();
      if (rows.length < 2) return;
      e.clipboardData?.setData('text/plain', asColumns(rows));
      e.preventDefault();
    };
    document.addEventListener('copy', onCopy);
    return () => document.removeEventListener('copy', onCopy);
  }, []);
}
