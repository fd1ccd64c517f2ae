import { HStack } from "@chakra-ui/react";
import type { RefObject } from "react";
import { Press } from "./controls";

// Pictures are saved as SVG or PNG, tables as CSV.

function download(name: string, url: string) {
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
}

const namespace = "http://www.w3.org/2000/svg";

/** What a picture draws with; on a page these come from its style, which a file has not. */
const drawn = ["fill", "stroke", "opacity", "stroke-width", "stroke-dasharray", "font-size", "text-anchor"];

/** The picture as it stands alone: on our paper, in our colours and type, under its title, with its size. */
export function standalone(picture: SVGSVGElement, title: string): string {
  const copy = picture.cloneNode(true) as SVGSVGElement;
  const from = [...picture.querySelectorAll("*")];
  for (const [i, element] of [...copy.querySelectorAll("*")].entries()) {
    const style = getComputedStyle(from[i]);
    for (const name of drawn) {
      element.setAttribute(name, style.getPropertyValue(name));
    }
    element.removeAttribute("class");
    element.removeAttribute("style");
  }
  const width = picture.width.baseVal.value;
  const height = picture.height.baseVal.value;
  const above = 28;
  const page = getComputedStyle(document.body);
  const whole = document.createElementNS(namespace, "svg");
  whole.setAttribute("xmlns", namespace);
  whole.setAttribute("width", String(width));
  whole.setAttribute("height", String(height + above));
  whole.setAttribute("font-family", "sans-serif");
  const add = (name: string, attributes: Record<string, string>, text?: string) => {
    const one = document.createElementNS(namespace, name);
    for (const [key, value] of Object.entries(attributes)) {
      one.setAttribute(key, value);
    }
    if (text !== undefined) {
      one.textContent = text;
    }
    whole.append(one);
  };
  add("rect", { width: "100%", height: "100%", fill: page.backgroundColor });
  add("text", { x: "8", y: "19", fill: page.color, "font-size": "13", "font-weight": "600" }, title);
  copy.setAttribute("y", String(above));
  copy.setAttribute("width", String(width));
  copy.setAttribute("height", String(height));
  copy.removeAttribute("style");
  copy.removeAttribute("class");
  whole.append(copy);
  return new XMLSerializer().serializeToString(whole);
}

function savePicture(picture: SVGSVGElement, name: string, title: string, kind: "svg" | "png") {
  const url = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(standalone(picture, title))}`;
  if (kind === "svg") {
    download(`${name}.svg`, url);
    return;
  }
  const image = new Image();
  image.onload = () => {
    const scale = 2;
    const canvas = document.createElement("canvas");
    canvas.width = image.width * scale;
    canvas.height = image.height * scale;
    canvas.getContext("2d")?.drawImage(image, 0, 0, canvas.width, canvas.height);
    download(`${name}.png`, canvas.toDataURL("image/png"));
  };
  image.src = url;
}

export function SavePicture({
  of,
  name,
  title,
}: {
  of: RefObject<SVGSVGElement | null>;
  name: string;
  title: string;
}) {
  const save = (kind: "svg" | "png") => of.current && savePicture(of.current, name, title, kind);
  return (
    <HStack gap="1">
      <Press plain size="xs" h="6" onClick={() => save("svg")}>
        Save SVG
      </Press>
      <Press plain size="xs" h="6" onClick={() => save("png")}>
        PNG
      </Press>
    </HStack>
  );
}

/** A spreadsheet runs a text that begins as a formula does; after an apostrophe it is a text. */
export const harmless = (text: string) =>
  /^[=+\-@\t\r\n]/.test(text) && !/^[+-]?[\d.,]+$/.test(text) ? `'${text}` : text;

const cell = (v: string | number | null | undefined) => {
  const text = typeof v === "string" ? harmless(v) : v == null ? "" : String(v);
  return /[",\n\r]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
};

export type CSVRow = (string | number | null | undefined)[];

export function SaveTable({ rows, name }: { rows: () => CSVRow[]; name: string }) {
  const save = () => {
    const text = rows()
      .map((r) => `${r.map(cell).join(",")}\n`)
      .join("");
    const url = URL.createObjectURL(new Blob([text], { type: "text/csv" }));
    download(`${name}.csv`, url);
    URL.revokeObjectURL(url);
  };
  return (
    <Press plain size="xs" h="6" onClick={save}>
      Save CSV
    </Press>
  );
}
