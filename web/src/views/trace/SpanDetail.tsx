import type { Schemas } from "../../api/client";
import { duration } from "../../shared/format";

type Span = Schemas["SpanOut"];

const text = (value: unknown) => (typeof value === "string" ? value : JSON.stringify(value));

/** Everything that was sent about one span. */
export function SpanDetail({ span, of }: { span: Span; of: number }) {
  return (
    <aside aria-label="Span" data-span={span.span}>
      <h2>
        {span.service}
        {span.peer ? ` → ${span.peer}` : ""}{" "}
        <span>
          span {span.index + 1} of {of}, {duration(span.duration_ms / 1000)}
        </span>
      </h2>
      <Pairs
        pairs={{
          name: span.name,
          kind: span.kind,
          outcome: span.outcome + (span.status_message ? `: ${span.status_message}` : ""),
          "began after": duration(span.start_ms / 1000),
          "self time": span.path_from_ms === null ? "off the critical path" : duration(span.self_ms / 1000),
          "span id": span.span,
        }}
      />
      <h2 className="mt-3">Attributes</h2>
      <Pairs pairs={span.attributes} />
      <h2 className="mt-3">Resource</h2>
      <Pairs pairs={span.resource} />
      {span.events.length > 0 && <h2 className="mt-3">Events</h2>}
      {span.events.map((event, index) => (
        <div key={index} className="mb-2">
          <b>{event.name}</b> <span className="text-second">after {duration(event.at_ms / 1000)}</span>
          <Pairs pairs={event.attributes} />
        </div>
      ))}
    </aside>
  );
}

function Pairs({ pairs }: { pairs: Record<string, unknown> }) {
  const entries = Object.entries(pairs);
  if (!entries.length) return <p className="text-second">none</p>;
  return (
    <dl className="font-mono text-[12px]">
      {entries.map(([key, value]) => (
        <div key={key} className="mb-[2px] grid grid-cols-[148px_1fr] gap-2">
          <dt className="[overflow-wrap:anywhere] text-second">{key}</dt>
          <dd className="[overflow-wrap:anywhere] whitespace-pre-wrap">{text(value)}</dd>
        </div>
      ))}
    </dl>
  );
}
