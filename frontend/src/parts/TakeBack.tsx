/** Lets something that was kept or entered count no more, or count again. */
export function TakeBack({
  what,
  taken = false,
  onClick,
}: {
  /** What it is about, for those who cannot see the row: '3 s at 93'. */
  what: string;
  taken?: boolean;
  onClick: () => void;
}) {
  return (
    <button
      type="button"
      className="-my-1 py-1 text-s underline underline-offset-2 hover:no-underline"
      aria-label={`${taken ? "Let count again" : "Take back"}: ${what}`}
      onClick={onClick}
    >
      {taken ? "let it count" : "take back"}
    </button>
  );
}
