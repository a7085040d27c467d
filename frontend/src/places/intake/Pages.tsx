import { Button } from "../../parts/basics";

export function Pages({
  page,
  pages,
  onPage,
}: {
  page: number;
  pages: number;
  onPage: (page: number) => void;
}) {
  if (pages < 2) return null;
  return (
    <p className="flex items-center gap-3 py-3">
      <Button disabled={page <= 1} onClick={() => onPage(page - 1)}>
        Earlier
      </Button>
      <span className="num text-s">
        {page} of {pages}
      </span>
      <Button disabled={page >= pages} onClick={() => onPage(page + 1)}>
        Later
      </Button>
    </p>
  );
}
