/** What the name of a dataset is like. */
export const nameShape = /^[a-z][a-z0-9_]{0,59}$/;

export const wrongName =
  "A name is of lower-case letters, digits and underscores, begins with a letter, and has 60 of them at most.";
