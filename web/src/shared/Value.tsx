import { chakra } from "@chakra-ui/react";
import type { ReactNode } from "react";

const invisible = /^\s+|\s+$|\s{2,}|\u200b|\u200c|\u200d|\u2060|\ufeff|\u00ad/g;

/** A value as it stands in the file; stray and invisible spaces are made visible, and what was looked for is marked. */
export function Value({ text: raw, found }: { text: string; found?: string }) {
  // Control characters, line ends among them, are shown by their pictures.
  const text = Array.from(raw, (c) => (c < " " ? String.fromCharCode(0x2400 + c.charCodeAt(0)) : c)).join("");
  const parts: ReactNode[] = [];
  let at = 0;
  for (const space of text.matchAll(invisible)) {
    parts.push(...marked(text.slice(at, space.index), found, at));
    parts.push(
      <chakra.span key={space.index} color="consistency" title="A stray or invisible space">
        {"␣".repeat([...space[0]].length)}
      </chakra.span>,
    );
    at = space.index + space[0].length;
  }
  parts.push(...marked(text.slice(at), found, at));
  return (
    <span className="value">{text === "" ? <chakra.span color="quiet">empty</chakra.span> : parts}</span>
  );
}

/** A text with each place where another one stands in it marked. */
function marked(text: string, found: string | undefined, key: number): ReactNode[] {
  if (!found) {
    return [text];
  }
  const parts: ReactNode[] = [];
  const lower = text.toLowerCase();
  const sought = found.toLowerCase();
  let at = 0;
  for (let next = lower.indexOf(sought); next >= 0; next = lower.indexOf(sought, at)) {
    parts.push(
      text.slice(at, next),
      <chakra.mark
        key={`${key} ${next}`}
        bg="calm"
        color="inherit"
        fontWeight="700"
        textDecoration="underline"
      >
        {text.slice(next, next + sought.length)}
      </chakra.mark>,
    );
    at = next + sought.length;
  }
  return [...parts, text.slice(at)];
}
