/** A number as people write it: with a comma, with the minus of print; NaN where nothing or no number stands there. */
export function numberOf(text: string): number {
  const plain = text.trim().replace("−", "-").replace(",", ".");
  return plain === "" ? NaN : Number(plain);
}

/** Whether something stands there that is no number. */
export const noNumber = (text: string): boolean => text.trim() !== "" && !Number.isFinite(numberOf(text));
