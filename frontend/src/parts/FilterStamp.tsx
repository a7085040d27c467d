import { filterName } from "./filterName";

const KNOWN: Record<string, string> = {
  L: "--pass-l",
  R: "--pass-r",
  G: "--pass-g",
  B: "--pass-b",
  Ha: "--pass-ha",
  OIII: "--pass-oiii",
  SII: "--pass-sii",
};

/** Which of the passband inks is nearest to a wavelength. */
export function inkFor(code: string, nm: number | null | undefined): string {
  const known = KNOWN[code];
  if (known) return `var(${known})`;
  if (!nm) return "var(--pass-l)";
  if (nm < 480) return "var(--pass-b)";
  if (nm < 515) return "var(--pass-oiii)";
  if (nm < 590) return "var(--pass-g)";
  return nm < 650 ? "var(--pass-r)" : "var(--pass-ha)";
}

/** A filter's code in a small stamp, underlined in the colour of its passband; a long name is cut, and told when pointed at. */
export function FilterStamp({ code, nm }: { code: string; nm?: number | null }) {
  return (
    <span
      title={code.length > 8 ? code : undefined}
      className="inline-flex h-5 max-w-[min(100%,150px)] min-w-[34px] items-center justify-center rounded-sm border border-current bg-card px-1 text-ink"
    >
      <span
        className="narrow min-w-0 truncate border-b-2 text-s leading-[13px] font-semibold"
        style={{ borderColor: inkFor(code, nm), paddingInline: 3 }}
      >
        {filterName(code)}
      </span>
    </span>
  );
}
