import type { Schemas } from "../../../api/client";
import { ColumnHead } from "../../../parts/basics";

type Preview = Schemas["MendPreviewOut"];

/** One value: as it is, and, where it changes, what it becomes. */
function Cell({ cell }: { cell: Schemas["CellOut"] }) {
  if (cell.now === cell.then) return <span className="text-ink2">{cell.now || "–"}</span>;
  return (
    <>
      <s className="text-ink2">{cell.now || "–"}</s> <b className="font-semibold">{cell.then || "–"}</b>
    </>
  );
}

/** The frames one by one, as they are told now and as they would be. */
export function Changes({ preview }: { preview: Preview }) {
  const several = (n: number) => n.toLocaleString("en");
  const rest = preview.frames - preview.rows.length;
  return (
    <section aria-label="What changes" className="min-w-0">
      <ColumnHead
        note={
          preview.words &&
          `${several(preview.changed)} change${
            preview.against ? `, ${several(preview.against)} of them from what was read otherwise` : ""
          }`
        }
      >
        What changes
      </ColumnHead>
      {preview.trouble && (
        <p role="alert" className="mt-2 border-l-4 border-accent bg-card px-3 py-2">
          <b className="font-semibold">{preview.trouble}</b> {preview.advice}
        </p>
      )}
      {preview.words && preview.said < preview.frames && (
        <p className="pt-2 text-accent">
          {several(preview.frames - preview.said)} of {several(preview.frames)} are left as they are: the
          pattern does not fit their names.
        </p>
      )}
      {preview.frames === 0 ? (
        <p className="py-4 text-ink2">No frame is like that.</p>
      ) : (
        <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="What would be said">
          <table className="w-full border-collapse text-s">
            <thead>
              <tr className="narrow border-b border-ink text-left text-ink2">
                <th className="py-1 pr-4 font-normal">File</th>
                {preview.columns.map((c) => (
                  <th key={c} className="pr-4 font-normal whitespace-nowrap">
                    {c}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {preview.rows.map((row) => (
                <tr key={row.path} className="border-b border-line align-baseline">
                  <td className="num py-1 pr-4 break-all">
                    {/* On a phone the table is moved sideways; a name of one letter a line tells nothing. */}
                    <span className="block min-w-44">{row.path}</span>
                    {row.why && <span className="block text-accent">{row.why}</span>}
                  </td>
                  {row.cells.map((cell, index) => (
                    <td key={preview.columns[index]} className="num pr-4 whitespace-nowrap">
                      <Cell cell={cell} />
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
          {rest > 0 && <p className="py-1.5 text-s text-ink2">and {several(rest)} more</p>}
        </div>
      )}
    </section>
  );
}
