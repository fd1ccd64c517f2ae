import { Box, Text } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { api, take } from "../../client/client";
import { exportFile, rowChoice, type TableSearch } from "../../shared/addresses";
import { Choice, Press } from "../../shared/controls";
import { Trouble } from "../../shared/states";

const formats = { csv: "CSV", jsonl: "JSON Lines", parquet: "Parquet", xlsx: "a workbook" } as const;

type Asked = { format: keyof typeof formats; mixed?: boolean };

/** Saves the chosen rows with their types. What cannot be written so is told before anything is. */
export function SaveForAnalysis(props: { id: number; search: TableSearch; columns: string[] }) {
  const save = useMutation({
    mutationFn: async (asked: Asked) => {
      await take(
        api.GET("/tables/{id}/export", {
          params: {
            path: { id: props.id },
            query: {
              ...rowChoice(props.search),
              ...asked,
              columns: props.columns,
              labels: true,
              check: true,
            },
          },
        }),
      );
      const link = document.createElement("a");
      link.href = exportFile(props.id, props.search, props.columns, {
        format: asked.format,
        labels: "true",
        ...(asked.mixed ? { mixed: "true" } : {}),
      });
      link.download = "";
      link.click();
    },
  });
  const asked = save.variables;
  return (
    <Box>
      <Choice
        aria-label="Save for analysis"
        title="Dates as dates, decimals as decimals, codes with their labels, estimates marked"
        value=""
        onChange={(e) =>
          e.target.value && !save.isPending && save.mutate({ format: e.target.value as Asked["format"] })
        }
      >
        <option value="">{save.isPending ? "Looking through the rows …" : "Save for analysis as …"}</option>
        {Object.entries(formats).map(([name, says]) => (
          <option key={name} value={name}>
            {says}
          </option>
        ))}
      </Choice>
      {save.error && asked && (
        <Box
          position="fixed"
          bottom="4"
          right="4"
          maxW="520px"
          bg="sheet"
          borderWidth="1px"
          borderColor="quiet"
          p="3"
          zIndex="popover"
        >
          <Trouble error={save.error} />
          {!asked.mixed && (
            <Text fontSize="sm" color="quiet">
              As text, such columns are whole; whoever reads them has to know.
            </Text>
          )}
          <Box display="flex" gap="2" mt="2">
            {!asked.mixed && (
              <Press size="xs" onClick={() => save.mutate({ ...asked, mixed: true })}>
                Save such columns as text
              </Press>
            )}
            <Press size="xs" plain onClick={() => save.reset()}>
              Leave it
            </Press>
          </Box>
        </Box>
      )}
    </Box>
  );
}
