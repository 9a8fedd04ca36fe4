interface Props {
  label: string;
  /** What no choice is called. */
  none: string;
  value: string | null;
  options: string[];
  choose: (value: string | null) => void;
}

/** One of several names, or none. */
export function Choice({ label, none, value, options, choose }: Props) {
  return (
    <label className="text-second">
      {label}{" "}
      <select
        className="max-w-80 border-b border-ink bg-transparent"
        value={value ?? ""}
        onChange={(event) => choose(event.target.value || null)}
      >
        <option value="">{none}</option>
        {options.map((name) => (
          <option key={name}>{name}</option>
        ))}
      </select>
    </label>
  );
}
