import { Box, HStack, Text } from "@chakra-ui/react";
import { useNavigate } from "@tanstack/react-router";
import type { Schemas } from "../../client/client";
import { Choice } from "../../shared/controls";
import { count } from "../../shared/words";
import { BarsPicture } from "./BarsPicture";
import { BoxesPicture } from "./BoxesPicture";
import { apart, boxed, type Drawing, fitting, type PictureKind, pictureCalled } from "./drawn";
import { calledOf, meets, rowsOf } from "./expressions";
import { HeatPicture } from "./HeatPicture";
import { LinesPicture } from "./LinesPicture";

/** The tally as a picture: the one that fits best, or another that fits too. Each mark opens its rows. */
export function TallyPicture(props: {
  t: Schemas["Table"];
  x: Schemas["Tally"];
  title: string;
  where?: string;
  chosen?: string;
  choose: (picture: PictureKind, measures?: string[]) => void;
}) {
  const { t, x, title, where } = props;
  const navigate = useNavigate();
  const kinds = fitting(x);
  const kind = kinds.find((k) => k === props.chosen) ?? kinds[0];
  if (!kind) {
    return null;
  }
  const drawing: Drawing = {
    x,
    says: title,
    file: `${t.dataset} by ${calledOf(x.by[0].expression)}`,
    open: (down, across) =>
      navigate({
        to: "/tables/$id",
        params: { id: String(t.id) },
        search: rowsOf(where, [meets(x.by[0], down), ...(across ? [meets(x.by[1], across)] : [])]),
      }),
  };
  const of = x.measures.find((m) => m.of)?.of;
  const choose = (k: PictureKind) =>
    props.choose(k, k === "boxes" && of ? boxed.map((b) => `${b} ${of}`) : undefined);
  const second = x.by[1];
  return (
    <Box>
      {kinds.length > 1 && (
        <HStack gap="2" fontSize="sm">
          <Text>drawn as</Text>
          <Choice aria-label="drawn as" value={kind} onChange={(e) => choose(e.target.value as PictureKind)}>
            {kinds.map((k) => (
              <option key={k} value={k}>
                {pictureCalled[k]}
              </option>
            ))}
          </Choice>
          {second && kind !== "heat" && second.groups.length > apart && (
            <Text color="quiet">
              The first {apart} of {count(second.groups.length + second.rest)} groups of{" "}
              {calledOf(second.expression)} are drawn.
            </Text>
          )}
        </HStack>
      )}
      {kind === "heat" ? (
        <HeatPicture {...drawing} />
      ) : kind === "boxes" ? (
        <BoxesPicture {...drawing} />
      ) : kind === "lines" ? (
        <LinesPicture {...drawing} />
      ) : (
        <BarsPicture {...drawing} stacked={kind === "stacked"} />
      )}
    </Box>
  );
}
