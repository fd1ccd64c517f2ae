// Lists of texts as people write them: with commas between, and a text that holds one, or stands in blanks, in quotes.

const plain = /^[^",\s]([^",]*[^",\s])?$/;

/** The texts with commas between; split gives the same texts back. */
export const joined = (texts: readonly string[]) =>
  texts.map((t) => (plain.test(t) ? t : `"${t.replaceAll('"', '""')}"`)).join(", ");

/** The texts of a list; what stands in quotes is one, whatever it holds. */
export const split = (text: string) =>
  [...text.matchAll(/\s*(?:"((?:[^"]|"")*)"\s*(?=,|$)|([^,]*))(?:,|$)/g)]
    .map(([, inQuotes, other]) => inQuotes?.replaceAll('""', '"') ?? (other.trim() || undefined))
    .filter((t) => t !== undefined);
