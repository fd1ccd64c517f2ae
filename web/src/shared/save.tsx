import { HStack } from "@chakra-ui/react";
import type { RefObject } from "react";
import { Press } from "./parts";

// Pictures are saved as SVG or PNG, tables as CSV.

function download(name: string, url: string) {
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
}

const namespace = "http://www.w3.org/2000/svg";

/** The picture as it stands alone: on our paper, in our type, with its size. */
function standalone(picture: SVGSVGElement): string {
  const copy = picture.cloneNode(true) as SVGSVGElement;
  copy.setAttribute("xmlns", namespace);
  copy.setAttribute("font-family", "sans-serif");
  const paper = document.createElementNS(namespace, "rect");
  paper.setAttribute("width", "100%");
  paper.setAttribute("height", "100%");
  paper.setAttribute("fill", getComputedStyle(document.body).backgroundColor);
  copy.insertBefore(paper, copy.firstChild);
  return new XMLSerializer().serializeToString(copy);
}

function savePicture(picture: SVGSVGElement, name: string, kind: "svg" | "png") {
  const url = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(standalone(picture))}`;
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

export function SavePicture({ of, name }: { of: RefObject<SVGSVGElement | null>; name: string }) {
  const save = (kind: "svg" | "png") => of.current && savePicture(of.current, name, kind);
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
const harmless = (text: string) =>
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
