import type { Schemas } from "../../../api/client";
import { Bar, ColumnHead } from "../../../parts/basics";
import { SaveLinks } from "../../../parts/SaveLinks";

type Page = Schemas["RoomOut"];

/** What takes how much room, by kind and age. */
export function ByKind({ page }: { page: Page }) {
  return (
    <section aria-label="By kind and age">
      <ColumnHead note={<SaveLinks name="room" files={[{ label: "CSV", href: "/api/room.csv" }]} />}>
        By kind and age
      </ColumnHead>
      <table className="w-full text-s">
        <thead>
          <tr className="text-left text-ink2">
            <th className="py-1 font-normal">
              <span className="sr-only">What</span>
            </th>
            <th className="font-normal">all</th>
            {page.ages.map((age) => (
              <th key={age} className="pl-2 text-right font-normal">
                {age}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {page.kinds.map((kind) => (
            <tr key={kind.kind} className="border-t border-line align-top">
              <th className="py-1 pr-2 text-left font-semibold">{kind.title}</th>
              <td className="num w-20 pr-2 whitespace-nowrap">
                {kind.size_text}
                <Bar share={kind.share} label={`Share of ${kind.title}`} />
              </td>
              {kind.by_age.map((size, index) => (
                <td key={page.ages[index]} className="num py-1 pl-2 text-right whitespace-nowrap text-ink2">
                  {size}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** The disks that the library's folders lie on, and what is free on each. */
export function Disks({ disks }: { disks: Page["disks"] }) {
  return (
    <section aria-label="Disks">
      <ColumnHead>Disks</ColumnHead>
      <ul>
        {disks.map((disk) => (
          <li key={disk.folders[0]} className="border-b border-line py-1.5">
            <p className="flex justify-between gap-3">
              <b className="font-semibold">{disk.free_text} free</b>
              <span className="text-ink2">of {disk.whole_text}</span>
            </p>
            <Bar share={disk.taken_share} label={`Taken of the disk of ${disk.folders[0]}`} />
            {disk.folders.map((folder) => (
              <p key={folder} className="num text-s break-all text-ink2">
                {folder}
              </p>
            ))}
          </li>
        ))}
      </ul>
    </section>
  );
}
