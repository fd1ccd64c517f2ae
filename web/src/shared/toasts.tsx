import { createToaster, Toast, Toaster } from "@chakra-ui/react";

const toaster = createToaster({ placement: "bottom-end", duration: 4000 });

/** Says in passing that something was done, where the page itself shows it elsewhere or not at all. */
export const said = (title: string) => toaster.create({ title, type: "info" });

/** Where such sentences appear; they go by themselves, and are read to who listens. */
export function Toasts() {
  return (
    <Toaster toaster={toaster}>
      {(toast) => (
        <Toast.Root bg="ink" color="paper" borderRadius="2px" maxW="90vw">
          <Toast.Title>{toast.title}</Toast.Title>
          <Toast.CloseTrigger color="paper" />
        </Toast.Root>
      )}
    </Toaster>
  );
}
