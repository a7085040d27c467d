/** Thousands set off by commas, as the pages write them: '29,491'. */
const THOUSANDS = /^[+-]?[1-9]\d{0,2}(,\d{3})+(\.\d+)?$/;

/** A number as people write it: with a comma, with the minus of print; NaN where nothing or no number stands there. */
export function numberOf(text: string): number {
  const typed = text.trim().replace("−", "-");
  const plain = THOUSANDS.test(typed) ? typed.replaceAll(",", "") : typed.replace(",", ".");
  return plain === "" ? NaN : Number(plain);
}

/** Whether something stands there that is no number. */
export const noNumber = (text: string): boolean => text.trim() !== "" && !Number.isFinite(numberOf(text));
