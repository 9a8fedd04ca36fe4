import { useState } from "react";

const origin = window.location.origin;

const RECIPES = {
  "an OpenTelemetry SDK": `export OTEL_EXPORTER_OTLP_ENDPOINT=${origin}
export OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf
export OTEL_EXPORTER_OTLP_HEADERS="Authorization=Bearer TOKEN"`,
  "a collector": `exporters:
  otlphttp/wirbel:
    endpoint: ${origin}
    headers: {Authorization: "Bearer TOKEN"}
service:
  pipelines:
    traces:  {receivers: [otlp], exporters: [otlphttp/wirbel]}
    metrics: {receivers: [otlp], exporters: [otlphttp/wirbel]}
    logs:    {receivers: [otlp], exporters: [otlphttp/wirbel]}`,
  "a deployment script": `curl ${origin}/v1/changes -H "Authorization: Bearer TOKEN" \\
  -H "Content-Type: application/json" \\
  -d '{"kind": "deploy", "at": "2026-03-04T09:15:00Z", "service": "NAME", "version": "1.2.3"}'`,
};

/** Exactly what to paste, with this server's address in it. */
export function HowToSend() {
  const [chosen, setChosen] = useState<keyof typeof RECIPES>("an OpenTelemetry SDK");
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(RECIPES[chosen]);
    setCopied(true);
  };
  return (
    <section aria-label="How to send">
      <h2 className="flex justify-between">
        <span className="font-bold! text-ink!">
          Send from{" "}
          <select
            aria-label="Send from"
            className="field"
            value={chosen}
            onChange={(event) => {
              setChosen(event.target.value as keyof typeof RECIPES);
              setCopied(false);
            }}
          >
            {Object.keys(RECIPES).map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </span>
        <button type="button" className="underline" onClick={() => void copy()}>
          {copied ? "copied" : "copy"}
        </button>
      </h2>
      <pre className="overflow-x-auto border border-line bg-sheet p-2 font-mono text-[12px]">{RECIPES[chosen]}</pre>
    </section>
  );
}
