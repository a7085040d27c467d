import { useState, type RefObject } from "react";

import { saveChart } from "./saveChart";

/** Save the chart beside it, and whatever files belong to it. */
export function SaveLinks({
  chart,
  name,
  files = [],
}: {
  chart?: RefObject<SVGSVGElement | null>;
  name: string;
  files?: { label: string; href: string }[];
}) {
  const [failed, setFailed] = useState("");
  const save = (as: "svg" | "png") => {
    if (chart?.current)
      saveChart(chart.current, name, as).then(
        () => setFailed(""),
        (error: unknown) => setFailed(String(error)),
      );
  };
  const look = "-my-1 py-1 underline underline-offset-2 hover:no-underline";
  return (
    <span className="flex items-baseline gap-3 text-s text-ink2 max-md:items-center">
      {failed && <span role="alert">{failed}</span>}
      <span>Save</span>
      {chart && (
        <>
          <button type="button" className={look} onClick={() => save("svg")}>
            SVG
          </button>
          <button type="button" className={look} onClick={() => save("png")}>
            PNG
          </button>
        </>
      )}
      {files.map((file) => (
        <a key={file.href} className={look} href={file.href} download>
          {file.label}
        </a>
      ))}
    </span>
  );
}
