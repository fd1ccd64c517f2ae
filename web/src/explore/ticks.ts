/** Round numbers that cover a range, some five of them: steps of 1, 2 or 5 times a power of ten. */
export function ticksFor(low: number, high: number): number[] {
  if (!(high > low)) {
    return [low, low + 1];
  }
  const power = 10 ** Math.floor(Math.log10((high - low) / 4));
  const step = [1, 2, 5, 10].map((n) => n * power).find((s) => (high - low) / s <= 5) ?? 10 * power;
  const first = Math.floor(low / step);
  const last = Math.ceil(high / step);
  // Multiples are counted in whole numbers, so that nothing adds up to 0.30000000000000004.
  return Array.from({ length: last - first + 1 }, (_, i) => Number(((first + i) * step).toPrecision(12)));
}
