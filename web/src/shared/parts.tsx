import { Box, chakra, Heading, HStack, Text } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import { type ReactNode, useEffect, useRef } from "react";
import type { Schemas } from "../client/client";
import { percent } from "./words";

// The small parts that every view is made of.

/** The heading of a page, which is what its window is called by too. */
export function Title({ children, aside }: { children: ReactNode; aside?: ReactNode }) {
  const heading = useRef<HTMLHeadingElement>(null);
  useEffect(() => {
    document.title = `${heading.current?.textContent?.trim() || "Proud Sieve"} · Proud Sieve`;
  });
  return (
    <HStack justify="space-between" align="baseline" mb="2" flexWrap="wrap">
      <Heading ref={heading} as="h1" fontSize="xl" fontWeight="650">
        {children}
      </Heading>
      {aside}
    </HStack>
  );
}

export function Section({
  title,
  children,
  aside,
}: {
  title: string;
  children: ReactNode;
  aside?: ReactNode;
}) {
  return (
    <Box as="section" mt="5" aria-label={title}>
      <HStack justify="space-between" align="baseline" mb="1">
        <Heading as="h2" fontSize="md" fontWeight="650">
          {title}
        </Heading>
        {aside}
      </HStack>
      {children}
    </Box>
  );
}

export const severityWord: Record<string, string> = { major: "major", minor: "minor", note: "note" };

/** A severity: a word and a weight, not a colour. */
export function Severity({ of }: { of: string }) {
  return (
    <chakra.span
      fontSize="sm"
      fontWeight={of === "major" ? "700" : "400"}
      borderWidth={of === "major" ? "1.5px" : "0"}
      borderColor="ink"
      px={of === "major" ? "1" : "0"}
      color={of === "note" ? "quiet" : "ink"}
      whiteSpace="nowrap"
    >
      {severityWord[of]}
    </chakra.span>
  );
}

/** A score, and whether it reaches its mark, in words. */
export function Verdict({
  table,
}: {
  table: Pick<Schemas["Table"], "score" | "passed"> & {
    audit_id?: number | null;
    withdrawn_at?: string | null;
  };
}) {
  if (table.withdrawn_at) {
    return <Text color="quiet">withdrawn</Text>;
  }
  if (table.score == null) {
    return (
      <Text color="quiet">{table.audit_id ? "no verdict: nothing is declared" : "not audited yet"}</Text>
    );
  }
  return (
    <Text>
      <chakra.span fontWeight="650">{percent(table.score)}</chakra.span>{" "}
      {table.passed ? "passed" : "fell short"}
    </Text>
  );
}

export function TableLink({ id, children }: { id: number; children: ReactNode }) {
  return (
    <Link to="/tables/$id" params={{ id: String(id) }}>
      {children}
    </Link>
  );
}
