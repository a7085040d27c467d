/** A number with what it counts: '1 light', '1,240 lights'. */
export const several = (count: number, one: string, many = `${one}s`) =>
  `${count.toLocaleString("en")} ${count === 1 ? one : many}`;
