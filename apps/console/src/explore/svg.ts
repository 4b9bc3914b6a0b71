// The drawing as SVG: what the canvas shows, as forms.
import type cytoscape from "cytoscape";
import { type Group, outlines } from "./hulls";

function escaped(text: string): string {
  return text.replaceAll("&", "&amp;").replaceAll("<", "&lt;").replaceAll(">", "&gt;").replaceAll('"', "&quot;");
}

export function svgOf(instance: cytoscape.Core, dark: boolean, groups: Group[] = []): string {
  const box = instance.elements().boundingBox();
  const [ink, paper, line] = dark ? ["#e8e4da", "#1b2227", "#8d99a1"] : ["#22303a", "#fdfcfa", "#7f8b93"];
  const parts: string[] = [];
  for (const { colour, points } of outlines(instance, groups)) {
    parts.push(`<polygon points="${points.map((p) => p.map((n) => n.toFixed(1)).join(",")).join(" ")}" fill="${colour}" fill-opacity="0.13" stroke="${colour}" stroke-opacity="0.6" stroke-width="1.5"/>`);
  }
  instance.edges().forEach((edge) => {
    const a = edge.sourceEndpoint();
    const b = edge.targetEndpoint();
    const c = edge.controlPoints()?.[0];
    const path = c ? `M${a.x} ${a.y} Q${c.x} ${c.y} ${b.x} ${b.y}` : `M${a.x} ${a.y} L${b.x} ${b.y}`;
    const arrow = edge.data("arrow") === "triangle" ? ' marker-end="url(#arrow)"' : ' stroke-dasharray="5 4"';
    parts.push(`<path d="${path}" fill="none" stroke="${line}" stroke-width="${edge.data("width")}"${arrow}/>`);
    const caption = String(edge.data("caption") ?? "");
    const middle = edge.midpoint();
    if (caption !== "") parts.push(`<text x="${middle.x}" y="${middle.y}" font-size="9.5" text-anchor="middle" paint-order="stroke" stroke="${paper}" stroke-width="3" fill="${ink}">${escaped(caption)}</text>`);
  });
  instance.nodes().forEach((node) => {
    const { x, y } = node.position();
    const radius = Number(node.data("size")) / 2;
    parts.push(`<circle cx="${x}" cy="${y}" r="${radius}" fill="${node.data("colour")}" stroke="${paper}" stroke-width="1.5"/>`);
    parts.push(`<text x="${x}" y="${y + radius + 13}" font-size="12" text-anchor="middle" paint-order="stroke" stroke="${paper}" stroke-width="3" fill="${ink}">${escaped(String(node.data("caption")))}</text>`);
  });
  return `<svg xmlns="http://www.w3.org/2000/svg" width="${Math.ceil(box.w + 40)}" height="${Math.ceil(box.h + 40)}" viewBox="${box.x1 - 20} ${box.y1 - 20} ${box.w + 40} ${box.h + 40}" font-family="system-ui, sans-serif">
<defs><marker id="arrow" viewBox="0 0 10 10" refX="9" refY="5" markerWidth="7" markerHeight="7" markerUnits="userSpaceOnUse" orient="auto"><path d="M0 0L10 5L0 10z" fill="${line}"/></marker></defs>
<rect x="${box.x1 - 20}" y="${box.y1 - 20}" width="${box.w + 40}" height="${box.h + 40}" fill="${paper}"/>
${parts.join("\n")}
</svg>
`;
}

/** An SVG drawing as PNG, twice as large. */
export async function pngOf(svg: string): Promise<Blob> {
  const image = new Image();
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(svg)}`;
  await image.decode();
  const canvas = document.createElement("canvas");
  [canvas.width, canvas.height] = [image.naturalWidth * 2, image.naturalHeight * 2];
  canvas.getContext("2d")?.drawImage(image, 0, 0, canvas.width, canvas.height);
  return new Promise((resolve, reject) => canvas.toBlob((blob) => (blob ? resolve(blob) : reject(new Error("the picture is too large for a PNG"))), "image/png"));
}
