import { sha256 } from "@noble/hashes/sha2.js";
import { bytesToHex } from "@noble/hashes/utils.js";

import { api, get, Problem, type Schemas } from "../../../api/client";

/** A file that was dropped or chosen, with its way below the folder that it was dropped with. */
export interface Dropped {
  path: string;
  file: File;
}

export interface Progress {
  sentBytes: number;
  wholeBytes: number;
  now: string;
  files: number;
}

export interface Sent {
  isNew: number;
  wasThere: number;
  refused: { path: string; why: string }[];
}

/** Files of a folder that was dropped, however deep; the browser hands out some at a time. */
async function filesBelow(entry: FileSystemEntry, above: string): Promise<Dropped[]> {
  const path = `${above}${entry.name}`;
  if (entry.isFile) {
    const file = await new Promise<File>((found, failed) =>
      (entry as FileSystemFileEntry).file(found, failed),
    );
    return [{ path, file }];
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const all: Dropped[] = [];
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((found, failed) => reader.readEntries(found, failed));
    if (some.length === 0) return all;
    for (const one of some) all.push(...(await filesBelow(one, `${path}/`)));
  }
}

/** What was dropped. It is asked for at once: afterwards the browser has forgotten it. */
export async function droppedIn(transfer: DataTransfer): Promise<Dropped[]> {
  const entries = [...transfer.items].map((item) => item.webkitGetAsEntry()).filter((e) => e !== null);
  const found = await Promise.all(entries.map((entry) => filesBelow(entry, "")));
  return found.flat();
}

/** What was chosen in a dialogue of the browser. */
export const chosenIn = (files: FileList | null): Dropped[] =>
  [...(files ?? [])].map((file) => ({ path: file.webkitRelativePath || file.name, file }));

const toldOf = ({ path, file }: Dropped): Schemas["SentIn"] => ({
  path,
  size_bytes: file.size,
  modified_ms: Math.max(0, Math.round(file.lastModified)),
});

/** So many are asked for at once. */
const AT_ONCE = 500;
/** After a break it is tried again, later each time, in ms. */
export const WAITS_MS = [1000, 2000, 5000, 10000, 20000];

const pause = (ms: number, signal: AbortSignal) =>
  new Promise<void>((done, stopped) => {
    const timer = setTimeout(done, ms);
    signal.addEventListener("abort", () => {
      clearTimeout(timer);
      stopped(new DOMException("stopped", "AbortError"));
    });
  });

async function putPiece(
  into: string,
  one: Schemas["SentIn"],
  offset: number,
  bytes: ArrayBuffer,
  signal: AbortSignal,
) {
  const query = new URLSearchParams({
    into,
    path: one.path,
    size_bytes: String(one.size_bytes),
    modified_ms: String(one.modified_ms),
    offset: String(offset),
  });
  const answer = await fetch(`/api/sending/piece?${query}`, {
    method: "PUT",
    body: bytes,
    headers: { "Content-Type": "application/octet-stream" },
    signal,
  });
  const told = (await answer.json()) as Schemas["ReceivedOut"] & {
    title: string;
    detail: string;
    advice: string;
  };
  if (!answer.ok) throw new Problem(told.title, told.detail, told.advice);
  return told.received;
}

/** The next piece, tried again after a break. */
async function sendPiece(
  into: string,
  one: Schemas["SentIn"],
  offset: number,
  bytes: ArrayBuffer,
  signal: AbortSignal,
): Promise<number> {
  for (let miss = 0; ; miss++) {
    try {
      return await putPiece(into, one, offset, bytes, signal);
    } catch (error) {
      const wait = WAITS_MS[miss];
      if (signal.aborted || error instanceof Problem || wait === undefined) throw error;
      await pause(wait, signal);
    }
  }
}

/** SHA-256 of some bytes: the browser's own where it has one (only on this machine, or over HTTPS). */
async function digestOf(bytes: ArrayBuffer): Promise<Uint8Array> {
  if (!globalThis.isSecureContext) return sha256(new Uint8Array(bytes));
  return new Uint8Array(await crypto.subtle.digest("SHA-256", bytes));
}

/** One file, piece by piece; the server says from where on. Returns whether it is new. */
async function sendOne(
  into: string,
  one: Dropped,
  from: number,
  pieceBytes: number,
  signal: AbortSignal,
  onBytes: (bytes: number) => void,
): Promise<boolean> {
  const told = toldOf(one);
  const hash = sha256.create();
  let here = from;
  let hashed = 0;
  while (hashed < told.size_bytes) {
    signal.throwIfAborted();
    // What is there already is read all the same: the hash is of the whole file, by its pieces.
    const end = Math.min(hashed + pieceBytes, told.size_bytes);
    const bytes = await one.file.slice(hashed, end).arrayBuffer();
    if (here < end) here = await sendPiece(into, told, here, bytes.slice(here - hashed), signal);
    if (here < end)
      throw new Problem("Not taken", `${one.path} is being sent by another page, too.`, "Send it once more.");
    hash.update(await digestOf(bytes));
    onBytes(end - hashed);
    hashed = end;
  }
  const body = { into, file: told, digest: bytesToHex(hash.digest()) };
  const { is_new } = await get(api.POST("/api/sending/whole", { body, signal }));
  return is_new;
}

/** Files that are sent side by side. */
const SIDE_BY_SIDE = 3;

/** Send one file, and count what became of it; returns why it was not taken, or nothing. */
async function fateOf(
  asked: Schemas["SendingOut"],
  one: Dropped,
  told: Schemas["ReceivedOut"] | undefined,
  signal: AbortSignal,
  onBytes: (bytes: number) => void,
  result: Sent,
): Promise<string> {
  if (!told || told.refused) return told?.refused ?? "";
  try {
    const isNew = await sendOne(asked.into, one, told.received, asked.piece_bytes, signal, onBytes);
    if (isNew) result.isNew += 1;
    else result.wasThere += 1;
    return "";
  } catch (error) {
    if (!(error instanceof Problem) || signal.aborted) throw error;
    return `${error.detail} ${error.advice}`.trim();
  }
}

/** Send files into a folder, and say what became of them; stopped or broken off, it is gone on with later. */
export async function sendAll(
  into: string,
  dropped: Dropped[],
  signal: AbortSignal,
  onProgress: (progress: Progress) => void,
): Promise<Sent> {
  const result: Sent = { isNew: 0, wasThere: 0, refused: [] };
  const wholeBytes = dropped.reduce((sum, d) => sum + d.file.size, 0);
  let sentBytes = 0;
  let files = 0;
  for (let first = 0; first < dropped.length; first += AT_ONCE) {
    const some = dropped.slice(first, first + AT_ONCE);
    const body = { into, files: some.map(toldOf) };
    const asked = await get(api.POST("/api/sending", { body, signal }));
    const waiting = some.map((one, index) => ({ one, told: asked.files[index] }));
    // Some side by side: one alone waits longer for answers than it sends.
    const worker = async () => {
      for (let next = waiting.shift(); next; next = waiting.shift()) {
        const { one, told } = next;
        let counted = 0;
        const bytes = (count: number) => {
          counted += count;
          sentBytes += count;
          onProgress({ sentBytes, wholeBytes, now: one.path, files });
        };
        const refusal = await fateOf(asked, one, told, signal, bytes, result);
        if (refusal) result.refused.push({ path: one.path, why: refusal });
        files += 1;
        bytes(one.file.size - counted);
      }
    };
    await Promise.all(Array.from({ length: SIDE_BY_SIDE }, worker));
  }
  return result;
}
