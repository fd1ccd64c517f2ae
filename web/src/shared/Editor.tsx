import { Box, chakra, Text } from "@chakra-ui/react";
import { useRef } from "react";
import { Refusal } from "../client/client";
import { Trouble, Writing } from "./parts";

/** A text of ours (rulebook, fix plan, merge) with its mistakes beneath; pressing one goes to its place. */
export function Editor(props: {
  label: string;
  rows: number;
  value: string;
  onChange: (text: string) => void;
  error: unknown;
}) {
  const area = useRef<HTMLTextAreaElement>(null);
  const details = props.error instanceof Refusal ? props.error.details.filter((d) => d.location) : [];
  const goTo = (location: string) => {
    const found = /line (\d+), column (\d+)/.exec(location);
    if (!found || !area.current) {
      return;
    }
    const lines = props.value.split("\n");
    const at =
      lines.slice(0, Number(found[1]) - 1).join("\n").length +
      (found[1] === "1" ? 0 : 1) +
      Number(found[2]) -
      1;
    area.current.focus();
    area.current.setSelectionRange(at, at + 1);
    area.current.scrollTop = (Number(found[1]) - 5) * 18;
  };
  return (
    <>
      <Writing
        ref={area}
        aria-label={props.label}
        rows={props.rows}
        fontFamily="mono"
        fontSize="13px"
        lineHeight="18px"
        spellCheck={false}
        wrap="off"
        value={props.value}
        onChange={(e) => props.onChange(e.target.value)}
      />
      {details.length > 0 ? (
        <Box role="alert" borderLeftWidth="4px" borderColor="validity" pl="2" my="1">
          <Text fontWeight="600">{(props.error as Refusal).message}</Text>
          {details.map((d) => (
            <Text key={`${d.location}${d.message}`} fontSize="sm">
              <chakra.button
                type="button"
                color="accent"
                textDecoration="underline"
                onClick={() => goTo(d.location ?? "")}
              >
                {d.location}
              </chakra.button>
              : {d.message}
            </Text>
          ))}
        </Box>
      ) : (
        <Trouble error={props.error} />
      )}
    </>
  );
}
