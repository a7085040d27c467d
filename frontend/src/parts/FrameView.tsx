import type { Schemas } from "../api/client";

/** A picture of a frame, gray, with the end points of its stretch printed below. */
export function FrameView({ picture, alt }: { picture: Schemas["PictureOut"]; alt: string }) {
  return (
    <figure>
      <img
        src={picture.url}
        alt={alt}
        className="block w-full bg-[#000] [image-rendering:auto]"
        style={{ aspectRatio: `${picture.width} / ${picture.height}` }}
      />
      <figcaption className="num mt-1 flex items-center gap-2 text-s">
        <span>{picture.black}</span>
        <span
          className="h-1.5 flex-1 border border-line"
          style={{ background: "linear-gradient(90deg, #000, #fff)" }}
        />
        <span>
          {picture.white} <span className="text-ink2">{picture.unit}</span>
        </span>
      </figcaption>
    </figure>
  );
}
