/** Saving a chart as it stands on the page: as SVG with its colours and type in it, or as PNG drawn from that. */

const KEPT = [
  "fill",
  "fill-opacity",
  "stroke",
  "stroke-width",
  "stroke-dasharray",
  "stroke-opacity",
  "opacity",
  "font-family",
  "font-size",
  "font-weight",
  "font-stretch",
  "text-anchor",
  "paint-order",
] as const;

/** The page's own type faces, so that the picture looks the same where they are not installed. */
async function typeFaces(): Promise<string> {
  const faces: string[] = [];
  for (const sheet of Array.from(document.styleSheets)) {
    for (const rule of Array.from(sheet.cssRules)) {
      if (!(rule instanceof CSSFontFaceRule)) continue;
      const range = rule.style.getPropertyValue("unicode-range");
      // Latin is all that charts are written in; the rest would make every picture ten times as large.
      if (range && !/U\+0+(-|0*FF)|U\+0?0?0?0-0?0?FF/i.test(range)) continue;
      const url = /url\("?([^")]+)"?\)/.exec(rule.style.getPropertyValue("src"))?.[1];
      if (!url) continue;
      const bytes = new Uint8Array(
        await (await fetch(new URL(url, sheet.href ?? document.baseURI))).arrayBuffer(),
      );
      let text = "";
      for (const byte of bytes) text += String.fromCharCode(byte);
      faces.push(
        rule.cssText.replace(/src:[^;]+;/, `src: url(data:font/woff2;base64,${btoa(text)}) format("woff2");`),
      );
    }
  }
  return faces.join("\n");
}

async function standAlone(svg: SVGSVGElement): Promise<{ text: string; width: number; height: number }> {
  const copy = svg.cloneNode(true) as SVGSVGElement;
  const from = [svg, ...Array.from(svg.querySelectorAll<SVGElement>("*"))];
  const to = [copy, ...Array.from(copy.querySelectorAll<SVGElement>("*"))];
  from.forEach((element, index) => {
    const style = getComputedStyle(element);
    const target = to[index];
    for (const name of KEPT) target?.setAttribute(name, style.getPropertyValue(name));
    target?.removeAttribute("class");
    target?.removeAttribute("tabindex");
  });
  const { width, height } = svg.viewBox.baseVal;
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  copy.setAttribute("width", String(width));
  copy.setAttribute("height", String(height));
  const style = document.createElementNS("http://www.w3.org/2000/svg", "style");
  style.textContent = await typeFaces();
  const ground = document.createElementNS("http://www.w3.org/2000/svg", "rect");
  ground.setAttribute("width", "100%");
  ground.setAttribute("height", "100%");
  ground.setAttribute("fill", getComputedStyle(document.documentElement).getPropertyValue("--card").trim());
  copy.prepend(style, ground);
  return { text: new XMLSerializer().serializeToString(copy), width, height };
}

function hand(blob: Blob, name: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  window.setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}

export async function saveChart(svg: SVGSVGElement, name: string, as: "svg" | "png"): Promise<void> {
  const { text, width, height } = await standAlone(svg);
  const blob = new Blob([text], { type: "image/svg+xml" });
  if (as === "svg") {
    hand(blob, `${name}.svg`);
    return;
  }
  const picture = new Image();
  const url = URL.createObjectURL(blob);
  await new Promise<void>((done, fail) => {
    picture.onload = () => done();
    picture.onerror = () => fail(new Error("The chart could not be drawn."));
    picture.src = url;
  });
  // Twice the size on the page: fit for print and for a forum.
  const canvas = document.createElement("canvas");
  canvas.width = width * 2;
  canvas.height = height * 2;
  canvas.getContext("2d")?.drawImage(picture, 0, 0, canvas.width, canvas.height);
  URL.revokeObjectURL(url);
  await new Promise<void>((done) =>
    canvas.toBlob((png) => {
      if (png) hand(png, `${name}.png`);
      done();
    }, "image/png"),
  );
}
