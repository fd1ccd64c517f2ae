import { Box, chakra } from "@chakra-ui/react";
import { useState } from "react";

/** The data of a picture as a table, for those who read rather than look. */
export function AsTable({ heads, rows }: { heads: string[]; rows: () => (string | number)[][] }) {
  const [open, setOpen] = useState(false);
  return (
    <details onToggle={(e) => setOpen(e.currentTarget.open)}>
      <chakra.summary fontSize="sm" cursor="pointer">
        The same as a table
      </chakra.summary>
      {open && (
        <Box
          maxH="240px"
          overflow="auto"
          tabIndex={0}
          role="group"
          aria-label="The picture as a table"
          maxW="560px"
        >
          <chakra.table fontSize="sm">
            <thead>
              <tr>
                {heads.map((h, i) => (
                  <chakra.th key={h} textAlign={i === 0 ? "left" : "right"} pr="4">
                    {h}
                  </chakra.th>
                ))}
              </tr>
            </thead>
            <tbody>
              {rows().map((r) => (
                <tr key={r.join()}>
                  {r.map((v, i) => (
                    <chakra.td key={heads[i]} textAlign={i === 0 ? "left" : "right"} pr="4">
                      {v}
                    </chakra.td>
                  ))}
                </tr>
              ))}
            </tbody>
          </chakra.table>
        </Box>
      )}
    </details>
  );
}
