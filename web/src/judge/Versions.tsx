import { chakra } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { differences, versions } from "../client/queries";
import { Grid, right, Td, Th } from "../shared/grid";
import { Section } from "../shared/parts";
import { Empty, Shown } from "../shared/states";
import { when } from "../shared/words";

/** The versions of a rulebook, and what changed between two of them. */
export function Versions(props: { name: string; from?: number; choose: (from?: number) => void }) {
  const all = useQuery(versions(props.name));
  return (
    <Shown query={all}>
      {(page) => {
        const newest = page.items[0]?.version ?? 0;
        if (newest === 0) {
          return <Empty>Nothing is saved yet. Save the first version.</Empty>;
        }
        return (
          <>
            <Grid label="Versions" max="260px">
              <thead>
                <tr>
                  <Th {...right}>version</Th>
                  <Th>by</Th>
                  <Th>saved</Th>
                  <Th>SHA-256</Th>
                  <Th>compare</Th>
                </tr>
              </thead>
              <tbody>
                {page.items.map((v) => (
                  <tr key={v.id}>
                    <Td {...right}>{v.version}</Td>
                    <Td>{v.author}</Td>
                    <Td>{when(v.created_at)}</Td>
                    <Td fontFamily="mono" fontSize="sm">
                      {v.digest.slice(0, 16)}
                    </Td>
                    <Td>
                      {v.version < newest && (
                        <chakra.button
                          type="button"
                          color="accent"
                          textDecoration="underline"
                          onClick={() => props.choose(v.version)}
                        >
                          with the newest
                        </chakra.button>
                      )}
                    </Td>
                  </tr>
                ))}
              </tbody>
            </Grid>
            {newest > 1 && <Differences name={props.name} from={props.from ?? newest - 1} to={newest} />}
          </>
        );
      }}
    </Shown>
  );
}

function Differences({ name, from, to }: { name: string; from: number; to: number }) {
  const found = useQuery(differences(name, from, to));
  return (
    <Section title={`What changed from version ${from} to version ${to}`}>
      <Shown query={found}>
        {(all) =>
          all.length === 0 ? (
            <Empty>They ask the same; only comments or order differ.</Empty>
          ) : (
            <chakra.ul pl="5" listStyleType="disc">
              {all.map((d) => (
                <li key={d.says}>
                  {d.says}
                  {d.weaker && (
                    <chakra.span fontWeight="650"> {d.perhaps ? "Perhaps weaker." : "Weaker."}</chakra.span>
                  )}
                </li>
              ))}
            </chakra.ul>
          )
        }
      </Shown>
    </Section>
  );
}
