/** Where one looks at a picture from: which of its pixels is in the middle of the pane, and how large a pixel is there. */
export interface Sight {
  x: number;
  y: number;
  /** Pixels of the screen for one of the picture. */
  scale: number;
}

export interface Size {
  width: number;
  height: number;
}

/** A pixel of the picture is never shown larger than this. */
const LARGEST = 32;

/** The whole picture in the pane. */
export function fitted(picture: Size, pane: Size): Sight {
  const scale = Math.min(pane.width / picture.width, pane.height / picture.height);
  return { x: picture.width / 2, y: picture.height / 2, scale: Math.max(scale, 1e-4) };
}

/** No further out than whole, and never beyond the picture's edge. */
export function kept(sight: Sight, picture: Size, pane: Size): Sight {
  const whole = fitted(picture, pane).scale;
  const scale = Math.min(Math.max(sight.scale, Math.min(whole, 1)), LARGEST);
  const within = (at: number, side: number, seen: number) =>
    seen >= side ? side / 2 : Math.min(Math.max(at, seen / 2), side - seen / 2);
  return {
    scale,
    x: within(sight.x, picture.width, pane.width / scale),
    y: within(sight.y, picture.height, pane.height / scale),
  };
}

/** The pixel of the picture under a place of the pane, in fractions of pixels. */
export function pixelAt(sight: Sight, pane: Size, at: { x: number; y: number }) {
  return {
    x: sight.x + (at.x - pane.width / 2) / sight.scale,
    y: sight.y + (at.y - pane.height / 2) / sight.scale,
  };
}

/** The place of the pane where a point of the picture is seen. */
export function placeOf(sight: Sight, pane: Size, pixel: { x: number; y: number }) {
  return {
    x: (pixel.x - sight.x) * sight.scale + pane.width / 2,
    y: (pixel.y - sight.y) * sight.scale + pane.height / 2,
  };
}

/** Nearer or further, so that what is under a place of the pane stays there. */
export function zoomed(sight: Sight, pane: Size, at: { x: number; y: number }, by: number): Sight {
  const under = pixelAt(sight, pane, at);
  const scale = sight.scale * by;
  return {
    scale,
    x: under.x - (at.x - pane.width / 2) / scale,
    y: under.y - (at.y - pane.height / 2) / scale,
  };
}

/** So many pixels of the picture make one of a tile: the most that the screen can show, a power of two. */
export function levelFor(scale: number): number {
  let level = 1;
  while (level * 2 * scale <= 1 && level < 1024) level *= 2;
  return level;
}

/** Columns and rows of the tiles that are seen. */
export function tilesSeen(sight: Sight, pane: Size, picture: Size, side: number) {
  const first = pixelAt(sight, pane, { x: 0, y: 0 });
  const last = pixelAt(sight, pane, { x: pane.width, y: pane.height });
  const found: { column: number; row: number }[] = [];
  const end = (at: number, length: number) => Math.min(Math.ceil(at / side), Math.ceil(length / side));
  for (let row = Math.max(Math.floor(first.y / side), 0); row < end(last.y, picture.height); row++)
    for (let column = Math.max(Math.floor(first.x / side), 0); column < end(last.x, picture.width); column++)
      found.push({ column, row });
  return found;
}
