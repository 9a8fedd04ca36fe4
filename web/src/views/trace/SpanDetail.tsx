import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { client, take } from "../../api/client";
import { CopyButton } from "../../shared/CopyButton";
import { duration } from "../../shared/format";
import { Waiting } from "../../shared/Waiting";
import type { SpanRow } from "./spans";

const text = (value: unknown) => (typeof value === "string" ? value : JSON.stringify(value));

/** Everything that was sent about one span. */
export function SpanDetail({ trace, span, of }: { trace: string; span: SpanRow; of: number }) {
  return (
    <aside aria-label="Span" data-span={span.span}>
      <h2>
        {span.service}
        {span.peer ? ` → ${span.peer}` : ""}{" "}
        <span>
          span {span.index + 1} of {of}, {duration(span.duration / 1000)}
        </span>
      </h2>
      <Pairs
        pairs={{
          kind: span.kind,
          outcome: span.outcome,
          "began after": duration(span.start / 1000),
          ...(span.moved && {
            drawn: `${duration(Math.abs(span.moved) / 1000)} ${span.moved > 0 ? "later" : "earlier"} than was sent`,
          }),
          "self time": span.onPath ? duration(span.self / 1000) : "off the critical path",
          "span id": span.span,
        }}
      />
      <Sent trace={trace} span={span.span} />
    </aside>
  );
}

function Sent({ trace, span }: { trace: string; span: string }) {
  const query = useQuery({
    queryKey: ["span", trace, span],
    queryFn: ({ signal }) =>
      take(client.GET("/api/traces/{trace}/spans/{span}", { signal, params: { path: { trace, span } } })),
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: keepPreviousData,
  });
  const sent = query.data;
  if (!sent) return <Waiting error={query.error} what="what was sent about the span" />;
  return (
    <div aria-busy={query.isPlaceholderData} className={query.isPlaceholderData ? "opacity-50" : undefined}>
      <Pairs pairs={{ name: sent.name, ...(sent.status_message && { status: sent.status_message }) }} />
      <h2 className="mt-3">Attributes</h2>
      <Pairs pairs={sent.attributes} />
      <h2 className="mt-3">Resource</h2>
      <Pairs pairs={sent.resource} />
      {sent.events.length > 0 && <h2 className="mt-3">Events</h2>}
      {sent.events.map((event, index) => (
        <div key={index} className="mb-2">
          <b>{event.name}</b> <span className="text-second">{duration(event.at_ms / 1000)} after the span began</span>
          <Pairs pairs={event.attributes} />
        </div>
      ))}
    </div>
  );
}

function Pairs({ pairs }: { pairs: Record<string, unknown> }) {
  const entries = Object.entries(pairs);
  if (!entries.length) return <p className="text-second">none</p>;
  return (
    <dl className="font-mono text-[12px]">
      {entries.map(([key, value]) => (
        <div key={key} className="group mb-[2px] grid grid-cols-[148px_1fr] gap-2">
          <dt className="[overflow-wrap:anywhere] text-second">{key}</dt>
          <dd className="relative">
            <span className="[overflow-wrap:anywhere] whitespace-pre-wrap">{text(value)}</span>
            <span className="copy-here">
              <CopyButton text={text(value)} />
            </span>
          </dd>
        </div>
      ))}
    </dl>
  );
}
