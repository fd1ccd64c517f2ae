import { Box, chakra, Dialog, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { type KeyboardEvent, useState } from "react";
import type { Schemas } from "../client/client";
import { search } from "../client/queries";
import { Field } from "../shared/controls";
import { useSettled } from "../shared/settled";
import { Trouble } from "../shared/states";

type Hit = Schemas["Hit"];

/** Finds datasets, columns, rules, issues, deliveries and certificates by their names, from the keyboard. */
export function SearchDialog({ close }: { close: () => void }) {
  const navigate = useNavigate();
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const asked = useSettled(text.trim(), 150);
  const found = useQuery({ ...search(asked), enabled: asked !== "" });
  const hits = asked === "" ? [] : (found.data?.hits ?? []);
  const chosen = Math.min(at, hits.length - 1);
  const go = (hit: Hit) => {
    close();
    navigate(placeOf(hit));
  };
  const onKey = (e: KeyboardEvent) => {
    if (e.key === "ArrowDown" || e.key === "ArrowUp") {
      e.preventDefault();
      const step = e.key === "ArrowDown" ? 1 : -1;
      setAt((chosen + step + hits.length) % Math.max(hits.length, 1));
    } else if (e.key === "Enter" && hits[chosen]) {
      e.preventDefault();
      go(hits[chosen]);
    }
  };
  return (
    <Dialog.Root open onOpenChange={(d) => !d.open && close()} motionPreset="none" placement="top">
      <Dialog.Backdrop />
      <Dialog.Positioner>
        <Dialog.Content bg="sheet" color="ink" borderRadius="2px" p="4" maxW="680px">
          <Dialog.Title fontSize="md" fontWeight="650" mb="1">
            Find anything
          </Dialog.Title>
          <Field
            role="combobox"
            aria-label="Find"
            aria-expanded={hits.length > 0}
            aria-controls="found"
            aria-activedescendant={hits[chosen] ? `found-${chosen}` : undefined}
            placeholder="a dataset, column, rule, issue, file or certificate"
            w="full"
            autoFocus
            value={text}
            onChange={(e) => {
              // The key that opened the dialog may still be on its way.
              setText(text === "" && e.target.value === "/" ? "" : e.target.value);
              setAt(0);
            }}
            onKeyDown={onKey}
          />
          <Box id="found" role="listbox" aria-label="Found" maxH="420px" overflow="auto" mt="2">
            {hits.map((hit, i) => (
              <Box
                key={`${hit.kind} ${hit.dataset} ${hit.name} ${hit.id}`}
                id={`found-${i}`}
                role="option"
                aria-selected={i === chosen}
                px="2"
                py="1"
                cursor="pointer"
                bg={i === chosen ? "sunken" : undefined}
                onClick={() => go(hit)}
              >
                <chakra.span color="quiet" display="inline-block" w="90px">
                  {hit.kind}
                </chakra.span>
                <chakra.span fontWeight="600">{hit.name}</chakra.span>{" "}
                <chakra.span color="quiet" fontSize="sm">
                  {[hit.dataset !== hit.name && hit.dataset, hit.says].filter(Boolean).join(", ")}
                </chakra.span>
              </Box>
            ))}
          </Box>
          <Text role="status" fontSize="sm" color="quiet" mt="1">
            {saidOf(asked, found.data)}
          </Text>
          <Trouble error={found.error} />
        </Dialog.Content>
      </Dialog.Positioner>
    </Dialog.Root>
  );
}

function saidOf(asked: string, found: Schemas["Found"] | undefined): string {
  if (asked === "" || !found) {
    return "Arrows go through what is found, enter opens it.";
  }
  if (found.hits.length === 0) {
    return `Nothing has ${asked} in its name.`;
  }
  return found.more.length > 0
    ? `There are more of the kinds ${found.more.join(", ")}; a longer text finds fewer.`
    : `${found.hits.length} found.`;
}

/** Where what was found is looked at. */
function placeOf(hit: Hit) {
  const id = String(hit.id);
  switch (hit.kind) {
    case "column":
      return { to: "/tables/$id", params: { id }, search: { view: "column", column: hit.name } } as const;
    case "rule":
      return {
        to: "/datasets/$name/rulebook",
        params: { name: hit.dataset },
        search: { view: "text", item: hit.name },
      } as const;
    case "issue":
      return { to: "/issues/$id", params: { id } } as const;
    case "delivery":
      return { to: "/tables/$id", params: { id } } as const;
    case "certificate":
      return { to: "/certificates/$id", params: { id } } as const;
  }
  return { to: "/datasets/$name", params: { name: hit.dataset } } as const;
}
