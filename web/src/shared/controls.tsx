import {
  Button,
  type ButtonProps,
  Input,
  type InputProps,
  NativeSelect,
  type NativeSelectFieldProps,
  Textarea,
  type TextareaProps,
} from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../client/client";
import { me } from "../client/queries";

type Right = Schemas["Me"]["rights"][number];

/** Whether somebody is signed in who has a right, and why not otherwise. */
export function useMay(right: Right | undefined): { may: boolean; why?: string } {
  // It is asked by the page around; a button on the way in must not ask again.
  const who = useQuery({ ...me, enabled: false }).data;
  if (!right || !who || who.rights.includes(right)) {
    return { may: true };
  }
  return {
    may: false,
    why: `You are a ${who.role}; this needs the right to ${right}. Ask an administrator.`,
  };
}

/** A button that does the main thing, or (plain) another one; whoever lacks the right that it needs is told so. */
export function Press({ plain, needs, ...props }: ButtonProps & { plain?: boolean; needs?: Right }) {
  const { may, why } = useMay(needs);
  const refused = may ? {} : { disabled: true, title: why };
  return (
    <Button
      size="sm"
      h="8"
      px="3"
      borderRadius="2px"
      borderWidth="1px"
      borderColor="accent"
      bg={plain ? "transparent" : "accent"}
      color={plain ? "accent" : "accentInk"}
      fontWeight="600"
      _hover={{ filter: "brightness(1.1)" }}
      loadingText={props.children}
      {...props}
      {...refused}
    />
  );
}

const box = {
  bg: "sheet",
  borderWidth: "1px",
  borderColor: "quiet",
  borderRadius: "2px",
  fontSize: "sm",
  color: "ink",
} as const;

const line = { ...box, px: "2", h: "8" } as const;

/** One line of text, a number or a day. */
export const Field = (props: InputProps) => <Input size="sm" w="auto" {...line} {...props} />;

/** One of several. */
export function Choice({
  w = "auto",
  minW = "0",
  maxW = "min(280px, 100%)",
  ...field
}: NativeSelectFieldProps) {
  return (
    <NativeSelect.Root size="sm" w={w} minW={minW} maxW={maxW}>
      <NativeSelect.Field {...line} pe="7" {...field} />
      <NativeSelect.Indicator color="quiet" />
    </NativeSelect.Root>
  );
}

/** Several lines of text. */
export const Writing = (props: TextareaProps) => <Textarea size="sm" {...box} p="2" w="full" {...props} />;
