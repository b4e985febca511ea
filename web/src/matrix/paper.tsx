import type { Matrix } from "../api/reach";
import { cellText, type Marks } from "./marks";

/** How many columns fit on a page beside the names of the rows. */
const acrossPage = 14;

/** Paper is the matrix on paper: over as many pages as it needs, with its heads on each. */
export function Paper({ m, marks, rows, columns }: { m: Matrix; marks: Marks; rows: number[]; columns: number[] }) {
  const pages = Array.from({ length: Math.ceil(columns.length / acrossPage) }, (_, i) => columns.slice(i * acrossPage, (i + 1) * acrossPage));
  return pages.map((page, i) => (
    <table key={i} className="w-full border-collapse text-[7.5pt]" style={{ breakBefore: i > 0 ? "page" : undefined }}>
      <thead>
        <tr>
          <th scope="col" className="border border-line px-1" />
          {page.map((c) => (
            <th key={c} scope="col" className="border border-line px-1 align-bottom break-words">
              {m.columns[c]?.name}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((r) => (
          <tr key={r}>
            <th scope="row" className="border border-line px-1 text-left font-normal">
              {m.rows[r]?.name}
            </th>
            {page.map((c) => {
              const cell = m.kinds[m.cells[r]?.[c] ?? 0];
              return (
                <td key={c} className="border border-line px-1 font-mono">
                  {cell && cellText(cell, marks)}
                </td>
              );
            })}
          </tr>
        ))}
      </tbody>
    </table>
  ));
}
