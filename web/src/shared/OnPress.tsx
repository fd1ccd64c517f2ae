import { chakra, Popover } from "@chakra-ui/react";
import { type ReactNode, useEffect, useState } from "react";

/**
 * A small button whose press opens what stands in it. What it takes to open is made with the first press: there are
 * many such buttons on a page, and few are pressed.
 */
export function OnPress(props: {
  label: string;
  sign: string;
  placement: "bottom" | "bottom-end";
  children: ReactNode;
}) {
  const [pressed, setPressed] = useState(false);
  const [open, setOpen] = useState(false);
  // It is there first, and opens then: so the keyboard goes into it, as it does with every later press.
  useEffect(() => setOpen(pressed), [pressed]);
  const button = (
    <chakra.button
      type="button"
      aria-label={props.label}
      aria-haspopup="dialog"
      title={props.label}
      minW="24px"
      minH="24px"
      fontSize="xs"
      fontWeight="400"
      cursor="pointer"
      color="accent"
      onClick={pressed ? undefined : () => setPressed(true)}
    >
      {props.sign}
    </chakra.button>
  );
  return pressed ? (
    <Popover.Root
      open={open}
      onOpenChange={(e) => setOpen(e.open)}
      lazyMount
      unmountOnExit
      positioning={{ placement: props.placement }}
    >
      <Popover.Trigger asChild>{button}</Popover.Trigger>
      {props.children}
    </Popover.Root>
  ) : (
    button
  );
}
