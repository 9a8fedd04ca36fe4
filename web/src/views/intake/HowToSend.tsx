import { useState } from "react";
import { CopyButton } from "../../shared/CopyButton";
import { Paste } from "../../shared/Paste";
import { RECIPES } from "../../shared/recipes";

export function HowToSend() {
  const [chosen, setChosen] = useState<keyof typeof RECIPES>("an OpenTelemetry SDK");
  return (
    <section aria-label="How to send">
      <h2 className="flex justify-between">
        <span className="font-bold! text-ink!">
          Send from{" "}
          <select
            aria-label="Send from"
            className="field"
            value={chosen}
            onChange={(event) => setChosen(event.target.value as keyof typeof RECIPES)}
          >
            {Object.keys(RECIPES).map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </span>
        <CopyButton text={RECIPES[chosen]} />
      </h2>
      <Paste what={`What to paste for ${chosen}`} text={RECIPES[chosen]} />
    </section>
  );
}
