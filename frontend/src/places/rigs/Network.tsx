import { useState } from "react";

import { api, asked, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../parts/basics";
import { CopyNumber } from "../../parts/CopyNumber";

type Access = Schemas["AccessOut"];

/** Browsers that gave the code; each can be sent out. */
function Sessions({ access }: { access: Access }) {
  const end = useChange((number: number) =>
    get(api.DELETE("/api/access/sessions/{number}", { params: { path: { number } } })),
  );
  return (
    <>
      {end.error && <Trouble error={end.error} />}
      <ul aria-label="Sessions">
        {access.sessions.map((s) => (
          <li
            key={s.number}
            className="flex flex-wrap items-center gap-x-4 border-b border-line py-1.5 max-md:min-h-11"
          >
            <span className="font-semibold">{s.name}</span>
            {s.is_this && <span className="text-s">this one</span>}
            <span className="num text-s text-ink2">{s.address}</span>
            <span className="flex-1 text-s text-ink2">
              since {s.since}, last {s.last}
            </span>
            <Button
              look="link"
              aria-label={`End the session of ${s.name}, ${s.address}`}
              disabled={end.isPending}
              onClick={() => end.mutate(s.number)}
            >
              End it
            </Button>
          </li>
        ))}
        {access.sessions.length === 0 && <li className="py-1.5 text-ink2">Nobody has given the code yet.</li>}
      </ul>
    </>
  );
}

/** The code, for whoever stands at the machine: as signs and as a picture for a phone. */
function Code({ access }: { access: Access }) {
  const [sure, setSure] = useState(false);
  const renew = useChange(() => get(api.POST("/api/access/code")));
  if (!access.code) return <p className="text-ink2">The code is shown at the machine itself.</p>;
  return (
    <div className="flex flex-wrap items-start gap-5">
      <img src={access.code_svg} alt="The access code as a QR picture" className="h-32 w-32" />
      <div className="min-w-0">
        <p className="pb-1 text-s text-ink2">Access code</p>
        <CopyNumber name="the access code" copied={access.code} text={access.code} />
        {sure ? (
          <p className="flex flex-wrap items-center gap-2 pt-2 text-s">
            Every session ends.
            <Button
              onClick={() => {
                setSure(false);
                renew.mutate(undefined);
              }}
            >
              Make another
            </Button>
            <Button look="link" onClick={() => setSure(false)}>
              Keep this one
            </Button>
          </p>
        ) : (
          <Button look="link" className="mt-1" onClick={() => setSure(true)}>
            Another code
          </Button>
        )}
        {renew.error && <Trouble error={renew.error} />}
      </div>
    </div>
  );
}

/** Under which addresses other rooms find this, and who came in. */
export function Network() {
  const access = asked.useQuery("get", "/api/access", {}).data;
  if (!access) return null;
  return (
    <section aria-label="Over the network" className="pt-6">
      <ColumnHead>Over the network</ColumnHead>
      {access.served ? (
        <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1.4fr)] gap-8 pt-3 max-lg:grid-cols-1">
          <div>
            {access.addresses.map((name) => (
              <p key={name} className="num text-m">
                http://{name}
                {window.location.port && `:${window.location.port}`}/
              </p>
            ))}
            {access.addresses.length === 0 && <p>This machine is in no network just now.</p>}
            <p className="pt-1 pb-3 text-s text-ink2">
              What can be done here can be done there.{" "}
              {access.folders
                ? "Folders may be named there, too."
                : "Folders are named at this machine alone."}
            </p>
            <Code access={access} />
          </div>
          <Sessions access={access} />
        </div>
      ) : (
        <p className="pt-2 text-ink2">
          Only this machine is served. Started with <span className="num">--lan</span>, a phone in another
          room watches and answers, once it was given a code.
        </p>
      )}
    </section>
  );
}
