import { Text } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useSyncExternalStore } from "react";
import { away } from "../client/client";

/** Says that the service is away, and brings the page up to date once it is back. */
export function Away() {
  const gone = useSyncExternalStore(away.subscribe, away.read);
  const client = useQueryClient();
  const was = useRef(gone);
  useEffect(() => {
    if (was.current && !gone) {
      client.invalidateQueries();
    }
    was.current = gone;
  }, [gone, client]);
  return gone ? (
    <Text role="alert" px="5" py="2" bg="sheet" borderLeftWidth="4px" borderColor="validity" fontWeight="600">
      The service does not answer. What is on the page stays; it goes on by itself once the service is back.
    </Text>
  ) : null;
}
