import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Trouble } from "../../parts/basics";

type Name = Schemas["NameIn"];
type Spelling = Schemas["SpellingOut"];

/** What the server is told of a spelling and a name. */
export const nameOf = ({ about, camera, spelled, name }: Name): Name => ({ about, camera, spelled, name });

/** In which other ways headers write a name, each with a way to say that it is a name of its own. */
export function Spellings({ spellings }: { spellings: Spelling[] }) {
  const own = useChange((name: Name) => get(api.POST("/api/names/own", { body: name })));
  if (spellings.length === 0) return null;
  return (
    <div className="pt-1">
      <ul aria-label="Also written">
        {spellings.map((way) => (
          <li
            key={`${way.about} ${way.name} ${way.text}`}
            className="flex flex-wrap items-center gap-x-2 text-s text-ink2"
          >
            <span>
              {way.about} <span className="text-ink">{way.name}</span>,{" "}
              {way.text ? (
                <>
                  also written <span className="num text-ink">{way.shown}</span>
                </>
              ) : (
                "also of frames that name none"
              )}
              , <span className="num">{way.frames.toLocaleString("en")}</span>{" "}
              {way.frames === 1 ? "frame" : "frames"}
            </span>
            <button
              type="button"
              className="-my-1 py-1 underline underline-offset-2 hover:no-underline max-md:my-0 max-md:min-h-11"
              aria-label={`Part ${way.shown} from ${way.name}`}
              disabled={own.isPending}
              onClick={() => own.mutate(nameOf(way))}
            >
              part them
            </button>
          </li>
        ))}
      </ul>
      {own.error && <Trouble error={own.error} />}
    </div>
  );
}
