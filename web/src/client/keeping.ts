// What is kept in this browser for each person, beside what the service keeps.

/** What was kept under a name, where it is still of its form. */
export function kept<T>(name: string, valid: (value: unknown) => T | undefined): T | undefined {
  try {
    return valid(JSON.parse(localStorage.getItem(name) ?? "null"));
  } catch {
    return undefined; // It is not JSON, or this browser keeps nothing.
  }
}

/** Keeps a value under a name; nothing takes it away. Where the browser keeps nothing it lasts as long as the page. */
export function keep(name: string, value: unknown) {
  try {
    if (value === undefined) {
      localStorage.removeItem(name);
    } else {
      localStorage.setItem(name, JSON.stringify(value));
    }
  } catch {
    // see above
  }
}
