import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { type KeyboardEvent, useRef, useState } from "react";
import type { Schemas } from "../client/client";
import { checkedRulebook, outlined } from "../client/queries";
import { Trouble, Writing } from "../shared/parts";
import { useSettled } from "../shared/settled";
import { plural } from "../shared/words";

const lineHeight = 18;

/** The text of a rulebook: its mistakes at their places while it is written, and what can come next. */
export function RulebookEditor(props: {
  value: string;
  onChange: (text: string) => void;
  line?: number;
  error: unknown;
}) {
  const { value, onChange } = props;
  const area = useRef<HTMLTextAreaElement>(null);
  const gutter = useRef<HTMLDivElement>(null);
  const settled = useSettled(value);
  const checked = useQuery({ ...checkedRulebook(settled), enabled: settled.trim() !== "" });
  const outline = useQuery({ ...outlined(settled), enabled: settled.trim() !== "" });
  const problems = checked.data?.problems ?? [];
  const byLine = new Map<number, string>();
  for (const p of problems) {
    byLine.set(p.line, [byLine.get(p.line), p.message].filter(Boolean).join("\n"));
  }
  const goTo = (line: number, column: number) => {
    const lines = value.split("\n");
    const at = lines.slice(0, line - 1).reduce((sum, l) => sum + l.length + 1, 0) + column - 1;
    area.current?.focus();
    area.current?.setSelectionRange(at, at + 1);
    if (area.current) {
      area.current.scrollTop = Math.max(0, (line - 8) * lineHeight);
    }
  };
  const lines = value.split("\n").length;
  const [offers, setOffers] = useState<Offers>();
  const offer = (asked: boolean) => {
    const at = area.current?.selectionStart ?? 0;
    setOffers(offersAt(area.current?.value ?? "", at, outline.data, asked));
  };
  const choose = (text: string) => {
    if (!offers || !area.current) {
      return;
    }
    // What was typed since the offer was made counts too: hands are quicker than pictures.
    const { value: now, selectionStart: at } = area.current;
    const typed = typedAt(now, at);
    if (!text.toLowerCase().startsWith(typed.toLowerCase())) {
      offer(false);
      return;
    }
    onChange(now.slice(0, at - typed.length) + text + now.slice(at));
    setOffers(undefined);
    const caret = at - typed.length + text.length;
    requestAnimationFrame(() => area.current?.setSelectionRange(caret, caret));
  };
  const onKey = (e: KeyboardEvent) => {
    if (e.key === " " && e.ctrlKey) {
      e.preventDefault();
      offer(true);
      return;
    }
    if (!offers) {
      return;
    }
    const move = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (move) {
      e.preventDefault();
      const n = offers.texts.length;
      setOffers({ ...offers, chosen: (offers.chosen + move + n) % n });
    } else if (e.key === "Enter" || e.key === "Tab") {
      e.preventDefault();
      choose(offers.texts[offers.chosen]);
    } else if (e.key === "Escape") {
      setOffers(undefined);
    }
  };
  return (
    <>
      <HStack align="stretch" gap="0" position="relative">
        <Box
          ref={gutter}
          aria-hidden="true"
          w="44px"
          flexShrink="0"
          overflow="hidden"
          h="calc(100vh - 215px)"
          minH="260px"
          pt="8px"
          textAlign="right"
          fontFamily="mono"
          fontSize="12px"
          lineHeight={`${lineHeight}px`}
          color="quiet"
          bg="sunken"
        >
          {Array.from({ length: lines }, (_, i) => (
            <Box
              // biome-ignore lint/suspicious/noArrayIndexKey: a line is known by its number
              key={i}
              pr="1.5"
              fontWeight={byLine.has(i + 1) ? "700" : "400"}
              color={byLine.has(i + 1) ? "validity" : undefined}
              title={byLine.get(i + 1)}
            >
              {byLine.has(i + 1) ? `! ${i + 1}` : i + 1}
            </Box>
          ))}
          <Box h="40px" />
        </Box>
        <Writing
          ref={area}
          aria-label="Rulebook"
          h="calc(100vh - 215px)"
          minH="260px"
          fontFamily="mono"
          fontSize="13px"
          lineHeight={`${lineHeight}px`}
          resize="none"
          spellCheck={false}
          wrap="off"
          aria-autocomplete="list"
          value={value}
          onChange={(e) => {
            onChange(e.target.value);
            requestAnimationFrame(() => offer(false));
          }}
          onKeyDown={onKey}
          onBlur={() => setOffers(undefined)}
          onScroll={(e) => {
            if (gutter.current) {
              gutter.current.scrollTop = e.currentTarget.scrollTop;
            }
            setOffers(undefined);
          }}
        />
        {offers && area.current && (
          <Box
            role="listbox"
            aria-label="What can come here"
            position="absolute"
            left={`${Math.min(52 + offers.column * 7.83, 480)}px`}
            top={`${8 + (offers.line + 1) * lineHeight - area.current.scrollTop}px`}
            bg="sheet"
            borderWidth="1px"
            borderColor="quiet"
            zIndex="3"
            fontFamily="mono"
            fontSize="13px"
            maxW="460px"
          >
            {offers.texts.map((text, i) => (
              <Box
                key={text}
                role="option"
                aria-selected={i === offers.chosen}
                tabIndex={-1}
                px="2"
                cursor="pointer"
                bg={i === offers.chosen ? "accent" : undefined}
                color={i === offers.chosen ? "accentInk" : undefined}
                onMouseDown={(e) => {
                  e.preventDefault();
                  choose(text);
                }}
              >
                {text}
              </Box>
            ))}
            {offers.says && (
              <Text px="2" fontSize="12px" color="quiet" fontFamily="body">
                {offers.says[offers.chosen]}
              </Text>
            )}
          </Box>
        )}
      </HStack>
      <Box aria-live="polite" minH="22px" maxH="120px" overflow="auto" mt="1" fontSize="sm">
        {problems.length === 0 ? (
          <Text color="quiet">
            {checked.data && "It is a good rulebook. "}Ctrl and space show what can come next.
          </Text>
        ) : (
          <>
            <Text fontWeight="600">{plural(problems.length, "mistake", "mistakes")}</Text>
            {problems.map((p) => (
              <Text key={`${p.line}.${p.column}.${p.message}`}>
                <chakra.button
                  type="button"
                  color="accent"
                  textDecoration="underline"
                  onClick={() => goTo(p.line, p.column)}
                >
                  line {p.line}, column {p.column}
                </chakra.button>
                : {p.message}
              </Text>
            ))}
          </>
        )}
      </Box>
      {problems.length === 0 && <Trouble error={props.error} />}
    </>
  );
}

type Offers = {
  texts: string[];
  says?: string[];
  chosen: number;
  line: number;
  column: number;
};

/** The word that ends at a place of the text. */
const typedAt = (text: string, at: number) => /[\p{L}\p{N}_]*$/u.exec(text.slice(0, at))?.[0] ?? "";

/** What can come at a place of the text: columns and functions in a condition, values of a field, or fields. */
export function offersAt(
  text: string,
  at: number,
  known: Schemas["Outlined"] | undefined,
  asked: boolean,
): Offers | undefined {
  if (!known) {
    return undefined;
  }
  const before = text.slice(0, at);
  const lines = before.split("\n");
  const line = lines[lines.length - 1];
  const typed = typedAt(text, at);
  if (typed === "" && !asked) {
    return undefined;
  }
  const found = candidates(lines, line.slice(0, line.length - typed.length), known).filter(
    (c) => c.text.toLowerCase().startsWith(typed.toLowerCase()) && c.text !== typed,
  );
  if (found.length === 0) {
    return undefined;
  }
  const some = found.slice(0, 9);
  return {
    texts: some.map((c) => c.text),
    says: some.some((c) => c.says) ? some.map((c) => c.says ?? "") : undefined,
    chosen: 0,
    line: lines.length - 1,
    column: line.length - typed.length,
  };
}

type Candidate = { text: string; says?: string };

function candidates(lines: string[], line: string, known: Schemas["Outlined"]): Candidate[] {
  const columns =
    known.outline.sections.find((s) => s.name === "columns")?.items.map((i) => ({ text: i.name })) ?? [];
  const field = /([a-z_]+): *["'[]?([^{}]*)$/.exec(line);
  const top = [...lines].reverse().find((l) => /^[a-z_]+:/.test(l));
  const section = known.forms.find((s) => top?.startsWith(`${s.name}:`));
  if (field && (field[1] === "condition" || field[1] === "when" || field[1] === "total")) {
    return [...columns, ...known.functions.map((f) => ({ text: f, says: "a function" }))];
  }
  const inBrackets = field && /\[[^\]]*$/.test(line);
  const form = section?.form.find((f) => f.name === field?.[1]);
  if (field && form && (inBrackets || field[2].trim() === "")) {
    switch (form.kind) {
      case "choice":
        return form.choices?.map((text) => ({ text })) ?? [];
      case "truth":
        return [{ text: "true" }, { text: "false" }];
      case "column":
      case "columns":
        return columns;
      case "codes":
        return known.outline.codes.map((l) => ({ text: l.name }));
    }
    return [];
  }
  if (/^$/.test(line)) {
    return [
      // The rulebook's own fields stand at its beginning, as the names of sections do.
      ...known.forms
        .flatMap((s) => (s.name === "rulebook" ? s.form.map((f) => f.name) : [s.name]))
        .map((name) => ({ text: `${name}:` })),
      { text: "code_lists:" },
    ];
  }
  if (section && /(^\s+-?\s*|[{,]\s*)$/.test(line)) {
    return section.form.map((f) => ({ text: `${f.name}: `, says: f.says }));
  }
  return [];
}
