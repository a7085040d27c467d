import type { CSSProperties, ReactNode } from "react";

import type { Schemas } from "../api/client";

/** The pixels of a frame; by night their white is no brighter than ink. */
export function Picture({ src, alt, style }: { src: string; alt: string; style?: CSSProperties }) {
  return (
    <span className="picture block">
      <img src={src} alt={alt} className="block w-full [image-rendering:auto]" style={style} />
    </span>
  );
}

/** A picture of a frame, gray, with the end points of its stretch printed below; `children` lie on the picture. */
export function FrameView({
  picture,
  alt,
  children,
}: {
  picture: Schemas["PictureOut"];
  alt: string;
  children?: ReactNode;
}) {
  return (
    <figure>
      <div className="relative">
        <Picture
          src={picture.url}
          alt={alt}
          style={{ aspectRatio: `${picture.width} / ${picture.height}` }}
        />
        {children}
      </div>
      <figcaption className="num mt-1 flex items-center gap-2 text-s">
        <span>{picture.black}</span>
        <span className="picture-scale h-1.5 flex-1 border border-line" />
        <span>
          {picture.white} <span className="text-ink2">{picture.unit}</span>
        </span>
      </figcaption>
    </figure>
  );
}
