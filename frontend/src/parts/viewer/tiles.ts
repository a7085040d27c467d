/** Levels of a part of a picture, and its picture as it was stretched last. */
export interface Tile {
  width: number;
  height: number;
  levels: Float32Array;
  drawn: { black: number; white: number; canvas: HTMLCanvasElement } | null;
}

/** So many are held: with 256 × 256 levels each some 100 MB. */
const MOST = 380;

/** Tiles that were fetched, the least used let go of first. */
export class Tiles {
  private readonly held = new Map<string, Tile | "asked" | "failed">();
  private readonly listeners = new Set<() => void>();

  /** The tile of an address; where it is not there yet it is fetched, and whoever listens is told. */
  get(address: string): Tile | null {
    const found = this.held.get(address);
    if (found === undefined) {
      this.held.set(address, "asked");
      void this.fetch(address);
      return null;
    }
    if (typeof found === "string") return null;
    this.held.delete(address);
    this.held.set(address, found);
    return found;
  }

  /** Whether a tile could not be had. */
  failed(address: string): boolean {
    return this.held.get(address) === "failed";
  }

  listen(told: () => void): () => void {
    this.listeners.add(told);
    return () => this.listeners.delete(told);
  }

  private async fetch(address: string) {
    try {
      const answer = await fetch(address);
      if (!answer.ok) throw new Error(String(answer.status));
      const levels = new Float32Array(await answer.arrayBuffer());
      const width = Number(answer.headers.get("X-Width"));
      this.held.set(address, { width, height: levels.length / width, levels, drawn: null });
    } catch {
      this.held.set(address, "failed");
      // Asked again after a while: the server may be busy, or away for a moment.
      setTimeout(() => {
        if (this.held.get(address) === "failed") this.held.delete(address);
        this.listeners.forEach((told) => told());
      }, 4000);
    }
    for (const [old] of this.held) {
      if (this.held.size <= MOST) break;
      this.held.delete(old);
    }
    this.listeners.forEach((told) => told());
  }
}

/** A tile in gray, from the level that is black to the one that is white; what holds no number is left open. */
export function drawn(tile: Tile, black: number, white: number): HTMLCanvasElement {
  if (tile.drawn && tile.drawn.black === black && tile.drawn.white === white) return tile.drawn.canvas;
  const canvas = tile.drawn?.canvas ?? document.createElement("canvas");
  canvas.width = tile.width;
  canvas.height = tile.height;
  const context = canvas.getContext("2d");
  if (context) {
    const image = context.createImageData(tile.width, tile.height);
    grays(tile.levels, black, white, new Uint32Array(image.data.buffer));
    context.putImageData(image, 0, 0);
  }
  tile.drawn = { black, white, canvas };
  return canvas;
}

/** Levels as grays: one number for the four bytes of a pixel. */
export function grays(levels: Float32Array, black: number, white: number, into: Uint32Array) {
  const scale = 255 / Math.max(white - black, 1e-30);
  for (let i = 0; i < levels.length; i++) {
    const level = levels[i] ?? NaN;
    if (level !== level) {
      into[i] = 0;
      continue;
    }
    const gray = Math.min(Math.max((level - black) * scale, 0), 255) | 0;
    into[i] = 0xff000000 | (gray << 16) | (gray << 8) | gray;
  }
}
