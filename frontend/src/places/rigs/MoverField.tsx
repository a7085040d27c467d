import { type Schemas } from "../../api/client";
import { Choice, Field } from "./fields";

type MovedBy = Schemas["PartOut"]["moved_by"];

const MOVERS: { value: MovedBy; label: string }[] = [
  { value: "", label: "nobody said" },
  { value: "hand", label: "a hand" },
  { value: "fixed", label: "nobody: it stays as it is" },
  { value: "absent", label: "it is not there" },
];

export function MoverField({
  value,
  onChange,
  label,
}: {
  value: MovedBy;
  onChange: (v: MovedBy) => void;
  label: string;
}) {
  return (
    <Field label={label}>
      <Choice value={value} options={MOVERS} onChange={onChange} />
    </Field>
  );
}
