import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../client/client";
import { Field, Press } from "../shared/controls";
import { Entry } from "../shared/Entry";
import { Grid, Td, Th, Unseen } from "../shared/grid";
import { joined, split } from "../shared/lists";
import { Empty } from "../shared/states";
import { Value } from "../shared/Value";
import { plural } from "../shared/words";

type List = Schemas["ListOutline"];
type Change = Schemas["Change"];

/** The lists of codes: what each code is called, how else it is spelt, and whether it has ended. */
export function CodeLists(props: {
  lists: List[];
  chosen?: string;
  choose: (name: string) => void;
  change: (c: Change) => void;
}) {
  const { lists, change, choose } = props;
  const list = lists.find((l) => l.name === props.chosen) ?? lists[0];
  const [name, setName] = useState("");
  const [codes, setCodes] = useState("");
  return (
    <>
      <HStack as="nav" aria-label="Code lists" gap="4" mb="2" flexWrap="wrap">
        {lists.map((l) => (
          <chakra.button
            key={l.name}
            type="button"
            color="accent"
            aria-pressed={l === list}
            fontWeight={l === list ? "700" : "400"}
            onClick={() => choose(l.name)}
          >
            {l.name} <chakra.span color="quiet">{l.codes.length}</chakra.span>
          </chakra.button>
        ))}
      </HStack>
      {list ? (
        <OneList key={list.name} list={list} change={change} />
      ) : (
        <Empty>There is no list yet. Name one below, with its codes; a column of type code names it.</Empty>
      )}
      <HStack
        as="form"
        gap="2"
        mt="3"
        flexWrap="wrap"
        onSubmit={(e) => {
          e.preventDefault();
          change({ section: "code_lists", item: name, add: true, values: split(codes) });
          choose(name);
          setName("");
          setCodes("");
        }}
      >
        <Field
          aria-label="The name of a list more"
          placeholder="name of a list more"
          required
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Field
          aria-label="Its codes"
          placeholder="its codes, with commas"
          required
          w="300px"
          value={codes}
          onChange={(e) => setCodes(e.target.value)}
        />
        <Press type="submit" plain>
          Add the list
        </Press>
      </HStack>
    </>
  );
}

function OneList({ list, change }: { list: List; change: (c: Change) => void }) {
  const [codes, setCodes] = useState("");
  const of = (c: Omit<Change, "section" | "item">): Change => ({
    section: "code_lists",
    item: list.name,
    ...c,
  });
  return (
    <>
      <HStack justify="space-between">
        <Text fontWeight="650">
          {list.name}, {plural(list.codes.length, "code", "codes")}
          {list.dataset && `, and those of the dataset ${list.dataset}`}
        </Text>
        <Press plain size="xs" h="6" onClick={() => change(of({ remove: true }))}>
          Remove the list
        </Press>
      </HStack>
      <Grid label={`Codes of ${list.name}`} max="calc(100vh - 330px)">
        <thead>
          <tr>
            <Th>code</Th>
            <Th>what it stands for</Th>
            <Th>other spellings of it</Th>
            <Th>ended</Th>
            <Unseen>remove</Unseen>
          </tr>
        </thead>
        <tbody>
          {list.entries.map((c) => (
            <tr key={c.code}>
              <Td>
                <Value text={c.code} />
              </Td>
              <Td>
                <Entry
                  w="full"
                  label={`What ${c.code} stands for`}
                  value={c.label ?? ""}
                  set={(value) => change(of({ code: c.code, field: "label", value }))}
                />
              </Td>
              <Td>
                <Entry
                  w="full"
                  label={`Other spellings of ${c.code}`}
                  value={joined(c.spellings)}
                  set={(v) =>
                    change(
                      v.trim() === ""
                        ? of({ code: c.code, field: "spellings", value: "" })
                        : of({ code: c.code, field: "spellings", values: split(v) }),
                    )
                  }
                />
              </Td>
              <Td>
                <input
                  type="checkbox"
                  aria-label={`${c.code} has ended`}
                  checked={c.ended ?? false}
                  onChange={(e) =>
                    change(of({ code: c.code, field: "ended", value: e.target.checked ? "true" : "" }))
                  }
                />
              </Td>
              <Td>
                {list.entries.length > 1 && (
                  <Press
                    plain
                    size="xs"
                    h="6"
                    aria-label={`Remove ${c.code}`}
                    onClick={() => change(of({ code: c.code, remove: true }))}
                  >
                    Remove
                  </Press>
                )}
              </Td>
            </tr>
          ))}
        </tbody>
      </Grid>
      <Box
        as="form"
        mt="2"
        onSubmit={(e) => {
          e.preventDefault();
          change(of({ add: true, values: split(codes) }));
          setCodes("");
        }}
      >
        <Field
          aria-label="Codes more"
          placeholder="codes more, with commas"
          required
          w="300px"
          value={codes}
          onChange={(e) => setCodes(e.target.value)}
        />{" "}
        <Press type="submit" plain>
          Add
        </Press>
      </Box>
    </>
  );
}
