import { Link } from "react-router";

/** The way on from a place that stands empty until frames come in. */
export function NameAFolder() {
  return (
    <Link
      to="/intake"
      className="flex h-10 w-max items-center rounded-sm bg-accent px-4 text-l font-semibold text-accent-text max-md:h-11"
    >
      Name a folder of frames
    </Link>
  );
}
