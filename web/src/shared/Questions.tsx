import { chakra } from "@chakra-ui/react";

/** Questions in the SQL of an engine, each with what it answers and what is told of it. */
export function Questions({ all }: { all: { says: string; sql: string; tells: string }[] }) {
  return (
    <chakra.ol pl="6" maxH="320px" overflowY="auto">
      {all.map((q, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: their order is what tells them apart, and does not change
        <li key={i}>
          {q.says}
          {q.tells && `: ${q.tells}`}
          <chakra.pre
            fontFamily="mono"
            fontSize="xs"
            whiteSpace="pre-wrap"
            wordBreak="break-word"
            color="quiet"
            m="0"
          >
            {q.sql}
          </chakra.pre>
        </li>
      ))}
    </chakra.ol>
  );
}
