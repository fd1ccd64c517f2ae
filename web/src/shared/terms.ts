/** What words of the trade mean, in one sentence each; the same word in every view. */
export const terms = {
  score:
    "The share of a column's cells with nothing wrong with them, in percent; a cell with three faults counts once.",
  "what it is":
    "What a column is used for, and the type of its values: an identifier names rows, a category has few different values, a measure is added up.",
  missing: "How many cells have nothing in them, or a text that stands for nothing, as n/a.",
  mesh: "A band of cells, each of which stands for the same share of the rows; what is caught there carries the pattern of its kind.",
  distinct: "How many different values the filled cells have.",
  deviation: "How far values lie from their mean, typically: the root of the mean of the squared distances.",
  skewness: "How lopsided the values lie: above 0 the few far ones are large, below 0 they are small.",
  "first quartile": "A quarter of the values lie below it.",
  median: "Half of the values lie below it; a few far ones do not move it.",
  "third quartile": "Three quarters of the values lie below it.",
  "beyond the fences":
    "Values that lie more than one and a half times the distance between the quartiles away from them: far, and not wrong for that.",
  completeness: "The share of cells that are filled where a value is required.",
  validity: "The share of cells of their type, in range, and in their pattern or code list.",
  uniqueness: "The share of cells that are in no surplus row of a key.",
  consistency: "The share of cells in no row that breaks a rule which names the column.",
  severity: "What a broken rule means for the table: major stops it, minor costs points, a note only tells.",
  costs: "How many points of the table's score the finding takes by itself.",
  "wins back":
    "How many points the table would have more if this finding alone were put right; others may hold the same rows.",
  "linear correlation":
    "How well a straight line describes two columns together: 1 rising, −1 falling, 0 not at all.",
  "correlation of ranks":
    "How well one column rises where the other does, straight or not; far values weigh no more than others.",
  "apart from the trend":
    "What is left of a linear correlation once what goes with time is taken out of both columns.",
  "strength of a gap":
    "How much of where a column is missing another column explains: 0 nothing, 1 all of it.",
} as const;

export type Explained = keyof typeof terms;
