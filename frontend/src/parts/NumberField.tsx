import { useState, type InputHTMLAttributes } from "react";

import { noNumber, numberOf } from "./typedNumber";

type Rest = Omit<InputHTMLAttributes<HTMLInputElement>, "value" | "onChange" | "type">;

/**
 * A number that may be unknown, typed as people write it: null where nothing stands there. What is no number is marked and not
 * taken. (A browser's own number field drops the comma where its language has none, and makes 4805 of '480,5'.)
 */
export function NumberField({
  value,
  onChange,
  className = "",
  ...rest
}: Rest & { value: number | null | undefined; onChange: (value: number | null) => void }) {
  const [text, setText] = useState<string | null>(null);
  const wrong = noNumber(text ?? "");
  return (
    <input
      {...rest}
      inputMode="decimal"
      aria-invalid={wrong}
      className={`${className} ${wrong ? "border-accent" : ""}`}
      value={text ?? value ?? ""}
      onChange={(event) => {
        const typed = event.target.value;
        setText(typed);
        if (!noNumber(typed)) onChange(typed.trim() ? numberOf(typed) : null);
      }}
      onBlur={() => setText(null)}
    />
  );
}
