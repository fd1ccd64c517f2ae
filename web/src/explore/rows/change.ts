import type { TableSearch } from "../../shared/addresses";

/** Changes what the address says of the rows. */
export type Change = (what: Partial<TableSearch>, replace?: boolean) => void;
