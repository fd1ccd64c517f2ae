import { Box, chakra, HStack, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { api, type Schemas, take } from "../client/client";
import { checkedText, outlined } from "../client/queries";
import { Press } from "../shared/controls";
import { Empty, Shown, Trouble } from "../shared/states";
import { plural } from "../shared/words";
import { CodeLists } from "./CodeListForm";
import { ItemForm } from "./ItemForm";
import { AddItem, ItemList } from "./ItemList";

type Outlined = Schemas["Outlined"];

/**
 * The rulebook as forms. Each change is made in the text, which is the rulebook; what the
 * forms do not know of, comments and order stay as they are.
 */
export function RulebookForms(props: {
  source: string;
  onChange: (source: string) => void;
  section?: string;
  item?: string;
  choose: (section: string, item?: string) => void;
}) {
  const { source, onChange, choose } = props;
  const known = useQuery(outlined(source));
  // Changes are made one after the other, each to what the one before left: none is lost where
  // a second one comes before the first is back.
  const latest = useRef(source);
  useEffect(() => {
    latest.current = source;
  }, [source]);
  const change = useMutation({
    scope: { id: "rulebook-forms" },
    mutationFn: async (changes: Schemas["Change"][]) => {
      const edited = await take(api.POST("/rulebooks/edit", { body: { source: latest.current, changes } }));
      latest.current = edited.source ?? latest.current;
      return edited;
    },
    onSuccess: (edited) => onChange(edited.source ?? source),
  });
  const checked = useQuery(checkedText("rulebooks", source));
  const problems = checked.data?.problems ?? [];
  return (
    <Shown query={known}>
      {(o) => {
        const lists = props.section === codeLists;
        const form =
          o.forms.find((f) => f.name === props.section) ??
          o.forms.find((f) => f.name === "columns") ??
          o.forms[0];
        const items = o.outline.sections.find((s) => s.name === form.name)?.items ?? [];
        const item = form.single ? items[0] : items.find((i) => i.name === props.item);
        return (
          <>
            <Trouble error={change.error} />
            {/* it is always there, so that nothing moves under a hand */}
            {problems.length === 0 ? (
              <Text role="status" fontSize="sm" color="quiet" mb="1">
                {checked.data ? "No mistake in the text." : "\u00a0"}
              </Text>
            ) : (
              <Text role="status" fontSize="sm" color="validity" mb="1">
                {plural(problems.length, "mistake", "mistakes")} in the text; each is told at its field, or by
                the text.
              </Text>
            )}
            <Parts o={o} chosen={lists ? codeLists : form.name} choose={choose} />
            {lists ? (
              <CodeLists
                lists={o.outline.codes}
                chosen={props.item}
                choose={(name) => choose(codeLists, name)}
                change={(c) => change.mutate([c])}
              />
            ) : form.single ? (
              <SingleForm
                form={form}
                item={item}
                o={o}
                problems={problems}
                change={(c) => change.mutate([c])}
              />
            ) : (
              <Stack
                direction={{ base: "column", lg: "row" }}
                align={{ base: "stretch", lg: "start" }}
                gap="5"
              >
                <Box w={{ lg: "330px" }} flexShrink="0">
                  <ItemList items={items} chosen={item?.name} choose={(name) => choose(form.name, name)} />
                  <AddItem
                    form={form}
                    o={o}
                    busy={change.isPending}
                    add={(c) => change.mutateAsync([c])}
                    choose={choose}
                  />
                </Box>
                <Box flex="1" minW="0">
                  {item ? (
                    <ItemForm
                      key={`${form.name} ${item.name}`}
                      form={form}
                      item={item}
                      o={o}
                      problems={problems}
                      change={(c) => change.mutate([c])}
                      remove={() => {
                        change.mutate([{ section: form.name, item: item.name, remove: true }]);
                        choose(form.name);
                      }}
                    />
                  ) : (
                    <Empty>
                      {items.length === 0
                        ? `The rulebook has no ${form.title.replace(/^a /, "")} yet. Add the first one.`
                        : `Choose ${form.title} on the left, or add one.`}
                    </Empty>
                  )}
                </Box>
              </Stack>
            )}
          </>
        );
      }}
    </Shown>
  );
}

const codeLists = "code_lists";

/** The parts of a rulebook, with how many items each has. */
function Parts(props: { o: Outlined; chosen: string; choose: (section: string) => void }) {
  const { o } = props;
  const parts = o.forms.map((f) => ({
    name: f.name,
    items: f.single ? undefined : o.outline.sections.find((s) => s.name === f.name)?.items.length,
  }));
  // Lists of codes stand beside the columns that name them.
  parts.splice(parts.findIndex((p) => p.name === "columns") + 1, 0, {
    name: codeLists,
    items: o.outline.codes.length,
  });
  return (
    <HStack as="nav" aria-label="Parts of the rulebook" columnGap="4" rowGap="0" mb="2" flexWrap="wrap">
      {parts.map((p) => (
        <chakra.button
          key={p.name}
          type="button"
          color="accent"
          fontWeight={p.name === props.chosen ? "700" : "400"}
          aria-pressed={p.name === props.chosen}
          onClick={() => props.choose(p.name)}
        >
          {p.name.replaceAll("_", " ")} <chakra.span color="quiet">{p.items}</chakra.span>
        </chakra.button>
      ))}
    </HStack>
  );
}

/** A part that is no list: its fields, or the press that declares it. */
function SingleForm(props: {
  form: Schemas["SectionForm"];
  item?: Schemas["ItemOutline"];
  o: Outlined;
  problems: Schemas["Problem"][];
  change: (c: Schemas["Change"]) => void;
}) {
  const { form, item, change } = props;
  const always = form.name === "rulebook" || form.name === "reading";
  if (!item && !always) {
    return (
      <HStack gap="3">
        <Text>It is not declared that no two rows may be equal in every cell.</Text>
        <Press
          plain
          onClick={() =>
            change({ section: form.name, add: true, fields: [{ name: "severity", value: "minor" }] })
          }
        >
          Declare it
        </Press>
      </HStack>
    );
  }
  return (
    <ItemForm
      key={form.name}
      form={form}
      item={item ?? { name: form.name, line: 0, fields: [] }}
      o={props.o}
      problems={props.problems}
      change={change}
      remove={always ? undefined : () => change({ section: form.name, remove: true })}
    />
  );
}
