import { useInfiniteQuery } from "@tanstack/react-query";
import { history } from "../client/queries";
import { Grid, More, Td, Th } from "../shared/grid";
import { Title } from "../shared/parts";
import { Shown } from "../shared/states";
import { when } from "../shared/words";

/** Who did what when; it is only ever added to. */
export function HistoryView() {
  const deeds = useInfiniteQuery(history);
  return (
    <>
      <Title>History</Title>
      <Shown query={deeds}>
        {(page) => (
          <Grid label="Who did what when">
            <thead>
              <tr>
                <Th>when</Th>
                <Th>who</Th>
                <Th>did</Th>
                <Th>to</Th>
                <Th>with</Th>
              </tr>
            </thead>
            <tbody>
              {page.items.map((d) => (
                <tr key={d.id}>
                  <Td whiteSpace="nowrap">{when(d.at)}</Td>
                  <Td>{d.person ?? "the service"}</Td>
                  <Td>{d.action}</Td>
                  <Td>{d.subject}</Td>
                  <Td fontFamily="mono" fontSize="sm" color="quiet" wordBreak="break-all">
                    {Object.entries(d.detail as Record<string, unknown>)
                      .map(([k, v]) => `${k} ${typeof v === "object" ? JSON.stringify(v) : v}`)
                      .join(", ")}
                  </Td>
                </tr>
              ))}
            </tbody>
          </Grid>
        )}
      </Shown>
      <More query={deeds} shown={deeds.data?.items.length ?? 0} />
    </>
  );
}
