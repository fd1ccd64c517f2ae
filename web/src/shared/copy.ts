import { harmless } from "./save";

const escaped = (text: string) =>
  text.replaceAll("&", "&amp;").replaceAll("<", "&lt;").replaceAll(">", "&gt;");

/** Copies a table so that a spreadsheet, a mail and a text each take it as one. */
export async function copyTable(rows: string[][]) {
  const safe = rows.map((r) => r.map(harmless));
  // A tab or a line end inside a cell would be another cell or row.
  const plain = safe.map((r) => r.map((c) => c.replace(/[\t\r\n]+/g, " ")).join("\t")).join("\n");
  const html = `<table>${safe.map((r) => `<tr>${r.map((c) => `<td>${escaped(c)}</td>`).join("")}</tr>`).join("")}</table>`;
  await navigator.clipboard.write([
    new ClipboardItem({
      "text/plain": new Blob([plain], { type: "text/plain" }),
      "text/html": new Blob([html], { type: "text/html" }),
    }),
  ]);
}
