import { Box, chakra, HStack, Popover, Portal, Stack, Text } from "@chakra-ui/react";
import { Link, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "../../client/client";
import { PutColumn } from "../../putright/PutColumn";
import { pairs } from "../../shared/addresses";
import { Field, Press } from "../../shared/controls";
import { OnPress } from "../../shared/OnPress";
import { Value } from "../../shared/Value";
import { count, missing, quoted } from "../../shared/words";
import type { Change } from "./change";
import { between, comparedAs, containing } from "./conditions";
import { moved, type useLayout } from "./layout";

type Props = {
  t: Schemas["Table"];
  name: string;
  of: Schemas["Column"] | undefined;
  order: string[];
  width: number;
  layout: ReturnType<typeof useLayout>;
  change: Change;
};

/** What can be asked of one column, and how it stands in the grid. */
export function ColumnMenu(props: Props) {
  return (
    <OnPress label={`Filter and arrange ${props.name}`} sign="⋮" placement="bottom-end">
      <Portal>
        <Popover.Positioner>
          <Popover.Content
            bg="sheet"
            borderWidth="1px"
            borderColor="quiet"
            borderRadius="2px"
            w="300px"
            aria-label={`Filter and arrange ${props.name}`}
          >
            <Stack p="2" gap="2" fontSize="sm">
              <Popover.Context>
                {(menu) => <Questions {...props} close={() => menu.setOpen(false)} />}
              </Popover.Context>
              <PutColumn t={props.t} column={props.name} />
              <Arranging {...props} />
            </Stack>
          </Popover.Content>
        </Popover.Positioner>
      </Portal>
    </OnPress>
  );
}

function Questions({ t, name, of, change, close }: Props & { close: () => void }) {
  const search = useSearch({ from: "/tables/$id" });
  const only = search.only ?? [];
  const ask = (what: Parameters<Change>[0]) => {
    close();
    change(what);
  };
  const also = (condition: string) => ask({ only: only.includes(condition) ? only : [...only, condition] });
  const is = (text: string) => {
    const others = (pairs(search.is) ?? []).filter(([c]) => c !== name);
    ask({ is: JSON.stringify([...others, [name, text]]) });
  };
  return (
    <>
      <HStack justify="space-between">
        <Text fontWeight="600" overflow="hidden" textOverflow="ellipsis">
          {name}
        </Text>
        <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ view: "column", column: name }}>
          open
        </Link>
      </HStack>
      <HStack gap="1" flexWrap="wrap">
        <Ask onClick={() => also(missing(name))}>only missing{of && ` (${count(of.missing)})`}</Ask>
        <Ask onClick={() => also(`${quoted(name)} IS NOT NULL`)}>only filled</Ask>
        {t.audit_id != null && <Ask onClick={() => ask({ column: name })}>only caught here</Ask>}
        <Ask onClick={() => ask({ sort: name, falling: undefined })}>least first</Ask>
        <Ask onClick={() => ask({ sort: name, falling: true })}>greatest first</Ask>
      </HStack>
      <Bounds name={name} of={of} also={also} />
      {of && of.frequent.length > 0 && (
        <Box>
          <Text color="quiet">
            {of.distinct > of.frequent.length ? "The most frequent values" : "Its values"}
          </Text>
          <Box maxH="180px" overflow="auto" tabIndex={0} role="group" aria-label={`Values of ${name}`}>
            {of.frequent.map((f) => (
              <chakra.button
                key={f.text}
                type="button"
                display="flex"
                justifyContent="space-between"
                w="full"
                minH="24px"
                cursor="pointer"
                textAlign="left"
                onClick={() => is(f.text)}
                title={`Only rows whose ${name} is this`}
              >
                <Value text={f.text} />
                <span>{count(f.rows)}</span>
              </chakra.button>
            ))}
          </Box>
        </Box>
      )}
    </>
  );
}

/** Bounds of numbers and days, or a part of texts. */
function Bounds({ name, of, also }: { name: string; of: Props["of"]; also: (condition: string) => void }) {
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const as = comparedAs(of);
  if (as === "none") {
    return null;
  }
  const good = (v: string) => v === "" || as !== "number" || /^-?\d+(\.\d+)?$/.test(v);
  const condition =
    as === "text"
      ? from !== "" && containing(name, from)
      : good(from) && good(to) && between(name, as, from, to);
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        if (condition) {
          also(condition);
        }
      }}
    >
      <HStack gap="1">
        <Field
          aria-label={as === "text" ? `Text that ${name} contains` : `Least ${name}`}
          placeholder={as === "text" ? "contains …" : "from"}
          type={as === "day" || as === "instant" ? "date" : "text"}
          value={from}
          onChange={(e) => setFrom(e.target.value)}
          w="full"
          minW="0"
        />
        {as !== "text" && (
          <Field
            aria-label={`Greatest ${name}`}
            placeholder="to"
            type={as === "day" || as === "instant" ? "date" : "text"}
            value={to}
            onChange={(e) => setTo(e.target.value)}
            w="full"
            minW="0"
          />
        )}
        <Press type="submit" plain disabled={!condition}>
          Show
        </Press>
      </HStack>
      {!(good(from) && good(to)) && <Text role="status">A bound is a number, as 12.5.</Text>}
    </form>
  );
}

function Arranging({ name, order, width, layout: { layout, set } }: Props) {
  const pinned = layout.pin.includes(name);
  const step = (by: number) => set({ widths: { ...layout.widths, [name]: Math.max(width + by, 60) } });
  const move = (by: -1 | 1) =>
    pinned ? set({ pin: moved(layout.pin, name, by) }) : set({ order: moved(order, name, by) });
  return (
    <HStack gap="1" flexWrap="wrap" borderTopWidth="1px" borderColor="line" pt="2">
      <Ask
        onClick={() => set({ pin: pinned ? layout.pin.filter((c) => c !== name) : [...layout.pin, name] })}
      >
        {pinned ? "let it go" : "keep in sight"}
      </Ask>
      <Ask onClick={() => set({ hide: [...layout.hide, name] })}>hide</Ask>
      <Ask onClick={() => move(-1)}>to the left</Ask>
      <Ask onClick={() => move(1)}>to the right</Ask>
      <Ask onClick={() => step(-40)}>narrower</Ask>
      <Ask onClick={() => step(40)}>wider</Ask>
    </HStack>
  );
}

function Ask({ onClick, children }: { onClick: () => void; children: React.ReactNode }) {
  return (
    <Press plain size="xs" h="6" onClick={onClick}>
      {children}
    </Press>
  );
}
