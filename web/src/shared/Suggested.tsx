import { useId } from "react";

interface Props {
  label: string;
  /** Of the label: its class. */
  width: string;
  value: string;
  options: readonly string[];
  placeholder?: string;
  set: (value: string) => void;
}

/** A name that has to be given, with those that are known to choose from. */
export function Suggested({ label, width, value, options, placeholder, set }: Props) {
  const list = useId();
  return (
    <label className="flex items-baseline gap-2">
      <span className={width}>{label}</span>
      <input
        className="field flex-1"
        required
        list={list}
        placeholder={placeholder}
        value={value}
        onChange={(event) => set(event.target.value)}
      />
      <datalist id={list}>
        {options.map((name) => (
          <option key={name}>{name}</option>
        ))}
      </datalist>
    </label>
  );
}
