import { Text } from "@chakra-ui/react";
import { type ComponentProps, type KeyboardEvent, useEffect, useState } from "react";
import { Field } from "./controls";

/** A text that counts when it is left, or when enter is pressed, so that each change is one. */
export function useEntry(now: string, set: (value: string) => void) {
  const [value, setValue] = useState(now);
  useEffect(() => setValue(now), [now]);
  const done = (v = value) => v !== now && set(v);
  const onKeyDown = (e: KeyboardEvent) => {
    if (e.key === "Enter") {
      e.preventDefault();
      done();
    }
  };
  return { value, setValue, done, onKeyDown };
}

/** A field of such a text; what cannot be meant is told beside it, and does not count. */
export function Entry({
  label,
  value: now,
  check,
  set,
  ...field
}: {
  label: string;
  value: string;
  check?: (value: string) => string | undefined;
  set: (value: string) => void;
} & Omit<ComponentProps<typeof Field>, "value" | "onChange" | "onBlur" | "onKeyDown">) {
  const { value, setValue, done, onKeyDown } = useEntry(now, (v) => {
    if (v.trim() !== now && !check?.(v.trim())) {
      set(v.trim());
    }
  });
  const wrong = check?.(value.trim());
  return (
    <>
      <Field
        aria-label={label}
        aria-invalid={wrong !== undefined}
        value={value}
        onChange={(e) => setValue(e.target.value)}
        onBlur={() => done()}
        onKeyDown={onKeyDown}
        {...field}
      />
      {wrong && (
        <Text role="alert" fontSize="sm" color="validity">
          {wrong}
        </Text>
      )}
    </>
  );
}
