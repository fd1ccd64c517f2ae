import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { unseen } from "../client/queries";

/**
 * How much is new, as it happens. The connection is that of a page in sight alone: a browser has few of them for one service, and
 * people have many tabs.
 */
export function useNews(): number {
  const client = useQueryClient();
  const now = useQuery(unseen);
  useEffect(() => {
    let source: EventSource | undefined;
    const follow = () => {
      source?.close();
      source = undefined;
      if (document.visibilityState !== "visible") {
        return;
      }
      source = new EventSource("/api/v1/notices/events");
      source.addEventListener("unseen", (e) => {
        client.setQueryData(unseen.queryKey, JSON.parse(e.data));
        client.invalidateQueries({ queryKey: ["notices"] });
      });
    };
    follow();
    document.addEventListener("visibilitychange", follow);
    return () => {
      document.removeEventListener("visibilitychange", follow);
      source?.close();
    };
  }, [client]);
  return now.data?.unseen ?? 0;
}
