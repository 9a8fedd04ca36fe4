import { scaleLinear } from "d3-scale";
import { Link, useOutletContext, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { Bar } from "../../charts/Bar";
import { ChangeMark, changeTitle } from "../../charts/ChangeMark";
import type { FrameContext } from "../../frame/Frame";
import { useJump } from "../../frame/jump";
import { useScope } from "../../frame/scope";
import { Copyable } from "../../shared/Copyable";
import { FindCause } from "../../shared/FindCause";
import { between, clockSeconds, dayAndClock, percent, quantity, signed, significant, span } from "../../shared/format";
import { useInquiry, windowsOf } from "../../shared/inquiries";
import { ReadAloud } from "../../shared/ReadAloud";
import { Tip } from "../../shared/Tip";
import { Told } from "../../shared/Told";
import { useFirst } from "../../shared/useFirst";
import { useWidth } from "../../shared/useWidth";
import { Waiting } from "../../shared/Waiting";
import { timeScale } from "../../shared/zone";
import { toTrace } from "../places";
import { Evidence } from "./Evidence";

type View = Schemas["InquiryView"];

export function Inquiry() {
  const { id = "" } = useParams();
  const query = useInquiry(id);
  if (!query.data) return <Waiting error={query.error} what="the inquiry" />;
  const view = query.data;
  return (
    <>
      <Head view={view} />
      <Elsewhere view={view} />
      <div className="mb-3 grid grid-cols-[minmax(0,1fr)_minmax(0,520px)] gap-7">
        <Cascade view={view} />
        <Ladder view={view} />
      </div>
      <Candidates view={view} />
      {view.notes.map((note) => (
        <p key={note} className="mt-1 text-second">
          <Told text={note} />
        </p>
      ))}
      <div className="mt-4 grid grid-cols-2 gap-7">
        {view.symptom.signal !== "throughput" && <Standouts view={view} />}
        <Judged view={view} />
      </div>
      {view.contributions.length > 0 && <Parts view={view} />}
    </>
  );
}

function Head({ view }: { view: View }) {
  const { symptom, effect } = view;
  const p95 = view.percentiles.find((one) => one.name === "p95");
  return (
    <div className="mb-3 flex items-start gap-4">
      <div className="flex-1">
        <h1>{view.title}</h1>
        <p className="text-second">
          {view.statistic} {quantity(effect.reference, effect.unit)} →{" "}
          <b className="text-rust">{quantity(effect.focus, effect.unit)}</b>, difference{" "}
          {signed(quantity(effect.delta, effect.unit), effect.delta)} ({quantity(effect.low, effect.unit)} to{" "}
          {quantity(effect.high, effect.unit)})
          {p95 &&
            symptom.signal === "latency" &&
            ` · p95 ${quantity(p95.reference ?? 0, "s")} → ${quantity(p95.focus ?? 0, "s")}`}{" "}
          · {view.requests.focus} requests against {view.requests.reference}
          {view.onset &&
            ` · since ${clockSeconds(view.onset.at)} (${clockSeconds(view.onset.low)} to ${clockSeconds(view.onset.high)})`}{" "}
          · answered in {view.took_ms} ms
        </p>
      </div>
      <Examples view={view} />
    </div>
  );
}

/** Where the ribbon shows other windows than the inquiry's: it can be asked again with these. */
function Elsewhere({ view }: { view: View }) {
  const { windows } = useOutletContext<FrameContext>();
  const [scope, setScope] = useScope();
  if (!windows || (scope.focus === null && scope.reference === null)) return null;
  const { symptom } = view;
  return (
    <p role="status" className="mb-3 flex items-center gap-4 border-y border-line py-1">
      <span className="flex-1">
        The ribbon's windows are not those of this inquiry, which was asked about {between(windowsOf(view).focus)}{" "}
        against {between(windowsOf(view).reference)}.
      </span>
      <button
        type="button"
        className="underline"
        onClick={() => void setScope({ focus: null, reference: null, range: null })}
      >
        back to the inquiry's windows
      </button>
      <FindCause
        main
        label="Ask again with these windows"
        windows={windows}
        asked={{ service: symptom.service, operation: symptom.operation, signal: symptom.signal }}
      />
    </p>
  );
}

function Examples({ view }: { view: View }) {
  const { slow, normal } = view.examples;
  if (!slow) return null;
  return (
    <TraceLink slow={slow} normal={normal} className="action hover:no-underline">
      {`A ${view.symptom.signal === "errors" ? "failing" : "slow"} request beside a normal one`}
    </TraceLink>
  );
}

function TraceLink({
  slow,
  normal,
  children,
  className,
}: {
  slow: Schemas["Example"];
  normal?: Schemas["Example"];
  children: string;
  className?: string;
}) {
  const jump = useJump();
  return (
    <Link className={className} to={jump(toTrace(slow, normal))}>
      {children}
    </Link>
  );
}

const ROW = 24;
const LABEL = 47; // letters of a part that fit
const LETTER = 8; // px, of an amount
/** Of the confidence that it is none of the candidates: less is not told. */
const LEAST_NONE = 0.05;
/** Confidence of the first candidate from which on nothing more is asked for. */
const SURE = 0.7;
const MOST_ROWS = 8;
const MOST_MOVED = 8;
const MOST_PARTS = 10;

/** From the reference to the focus, part by part; the steps add up. */
function Cascade({ view }: { view: View }) {
  const [ref, width] = useWidth<HTMLDivElement>(560);
  const { effect, cascade } = view;
  const left = 284;
  const bounds = cascade.flatMap((step) => [step.start, step.end]);
  const steps = cascade.filter((step) => step.amount !== 0);
  const amount = (step: (typeof steps)[number]) => signed(quantity(step.amount, effect.unit), step.amount);
  const room = 14 + LETTER * Math.max(8, ...steps.map((step) => amount(step).length));
  const most = Math.max(...bounds, effect.reference, effect.focus);
  const x = scaleLinear([0, most || 1], [left, width - room]);
  const bottom = (steps.length + 1) * ROW;
  return (
    <section ref={ref}>
      <h2>
        Where the {view.symptom.signal === "latency" ? "time went" : "change is"}{" "}
        <span>
          {view.statistic} of {view.symptom.operation ?? view.symptom.service},{" "}
          {view.symptom.signal === "latency" ? "critical path, " : ""}parts add up
        </span>
      </h2>
      <svg
        width={width}
        height={bottom + ROW + 4}
        role="img"
        aria-label={`From ${quantity(effect.reference, effect.unit)} to ${quantity(effect.focus, effect.unit)}`}
      >
        <text x="0" y="15" style={{ fill: "var(--kelp)" }}>
          reference {quantity(effect.reference, effect.unit)}
        </text>
        <rect x={left} y="4" width={Math.max(2, x(effect.reference) - left)} height="15" fill="var(--kelp)" />
        {steps.map((step, index) => {
          const y = (index + 1) * ROW;
          const [a, b] = [x(Math.min(step.start, step.end)), x(Math.max(step.start, step.end))];
          return (
            <g key={step.label}>
              <path d={`M${x(step.start)} ${y - 6}V${y + 4}`} stroke="var(--slate)" strokeWidth="0.8" />
              <text x="0" y={y + 15} style={{ fill: "var(--ink)" }} fontWeight={step.main ? 700 : 400}>
                {step.label.length > LABEL ? `${step.label.slice(0, LABEL - 1)}…` : step.label}
                <title>{step.label}</title>
              </text>
              <rect
                x={a}
                y={y + 4}
                width={Math.max(1.5, b - a)}
                height="15"
                fill={step.main ? "var(--rust)" : "var(--slate)"}
              />
              <text x={b + 6} y={y + 16}>
                {amount(step)}
                <title>{effects(step, effect.unit)}</title>
              </text>
            </g>
          );
        })}
        <rect
          x={left}
          y={bottom + 4}
          width={Math.max(2, x(effect.focus) - left)}
          height="15"
          fill="var(--rust)"
          opacity="0.85"
        />
        <path d={`M${x(effect.focus)} ${bottom - 6}V${bottom + 19}`} stroke="var(--slate)" strokeWidth="0.8" />
        <text x="0" y={bottom + 15} fontWeight="600" style={{ fill: "var(--rust)" }}>
          focus {quantity(effect.focus, effect.unit)}
        </text>
      </svg>
      <ReadAloud caption="Parts of the change">
        <thead>
          <tr>
            <th>part</th>
            <th>change</th>
            <th>of which</th>
          </tr>
        </thead>
        <tbody>
          {steps.map((step) => (
            <tr key={step.label}>
              <td>{step.label}</td>
              <td>{signed(quantity(step.amount, effect.unit), step.amount)}</td>
              <td>{effects(step, effect.unit)}</td>
            </tr>
          ))}
        </tbody>
      </ReadAloud>
    </section>
  );
}

/** What a part's change is made of. */
function effects({ more_calls, slower_calls }: View["cascade"][number], unit: string): string {
  if (more_calls == null || slower_calls == null) return "";
  return `${signed(quantity(more_calls, unit), more_calls)} by more or fewer calls, ${signed(quantity(slower_calls, unit), slower_calls)} by slower or faster ones`;
}

/** What moved first: onsets with their intervals, and the changes between them. */
function Ladder({ view }: { view: View }) {
  const [ref, width] = useWidth<HTMLDivElement>(520);
  const [moved, offer] = useFirst(view.moved, MOST_MOVED, "onsets");
  const times = moved.flatMap((one) => [Date.parse(one.onset.low), Date.parse(one.onset.high)]);
  const near = moved.length ? view.changes.filter((one) => one.is_near) : [];
  const all = [...times, ...near.map((one) => Date.parse(one.change.at))];
  const [low, high] = [Math.min(...all) - 15_000, Math.max(...all) + 15_000];
  const x = timeScale([low, high], [190, width - 12]);
  const height = 22 + moved.length * 22;
  return (
    <section ref={ref}>
      <h2>
        What moved first <span>onset with interval</span>
      </h2>
      {moved.length === 0 ? (
        <p className="text-second">No part shows one clear onset in the traces of these windows.</p>
      ) : (
        <svg width={width} height={height + 20} role="img" aria-label="Onsets in order of time">
          {x.ticks(3).map((tick) => (
            <g key={tick.getTime()}>
              <path d={`M${x(tick)} 14V${height}`} stroke="var(--line)" />
              <text x={x(tick)} y={height + 15} textAnchor={x(tick) > width - 40 ? "end" : "middle"}>
                {clockSeconds(tick.getTime())}
              </text>
            </g>
          ))}
          {near.map((one) => (
            <g key={one.change.id}>
              <path d={`M${x(Date.parse(one.change.at))} 12V${height}`} stroke="var(--ink)" strokeDasharray="2 2" />
              <ChangeMark change={one.change} x={x} y={0} />
            </g>
          ))}
          {moved.map((one, index) => {
            const y = 24 + index * 22;
            const colour = one.is_symptom ? "var(--rust)" : "var(--ink)";
            return (
              <g key={`${one.kind} ${one.name} ${one.is_symptom}`}>
                <text x="0" y={y + 4} style={{ fill: "var(--ink)" }}>
                  {one.is_symptom ? `${one.name}, the symptom` : one.name}
                </text>
                <path
                  d={`M${x(Date.parse(one.onset.at))} ${y}H${width - 12}`}
                  stroke={colour}
                  strokeDasharray="1 3"
                  strokeWidth="0.8"
                />
                <path
                  d={`M${x(Date.parse(one.onset.low))} ${y}H${x(Date.parse(one.onset.high))}`}
                  stroke={colour}
                  strokeWidth="1.6"
                />
                <path d={`M${x(Date.parse(one.onset.at))} ${y - 6}V${y + 6}`} stroke={colour} strokeWidth="3" />
              </g>
            );
          })}
        </svg>
      )}
      {moved.length > 0 && (
        <ReadAloud caption="Onsets in order of time">
          <thead>
            <tr>
              <th>part</th>
              <th>moved at</th>
              <th>between</th>
            </tr>
          </thead>
          <tbody>
            {moved.map((one) => (
              <tr key={`${one.kind} ${one.name} ${one.is_symptom}`}>
                <td>{one.is_symptom ? `${one.name}, the symptom` : one.name}</td>
                <td>{clockSeconds(one.onset.at)}</td>
                <td>
                  {clockSeconds(one.onset.low)} and {clockSeconds(one.onset.high)}
                </td>
              </tr>
            ))}
          </tbody>
        </ReadAloud>
      )}
      {offer}
    </section>
  );
}

function Candidates({ view }: { view: View }) {
  return (
    <section aria-label="Candidates">
      <h2 className="flex justify-between">
        Candidates <span>confidence is calibrated: of ten answers at 80 %, about eight are right</span>
      </h2>
      {view.candidates.length === 0 && (
        <p className="py-3">
          Nothing stands out. {view.nothing ?? `${percent(view.unexplained)} of the change is unexplained.`}
        </p>
      )}
      {view.candidates.map((candidate) => (
        <article key={candidate.rank} className="border-b border-line py-2" aria-label={`Candidate ${candidate.rank}`}>
          <header className="flex items-baseline gap-3">
            <b className="text-[15px]">{candidate.rank}</b>
            <span className="flex-1">
              <b className="text-[15px]">{candidate.title || candidate.entity.name}</b>{" "}
              <span className="text-second">{[candidate.entity.kind, candidate.mechanism].join(" · ")}</span>
            </span>
            <span className="text-second">explains</span>
            <Bar share={candidate.explains} main={candidate.rank === 1} width={120} />
            <span className="w-14 text-right whitespace-nowrap">{percent(candidate.explains)}</span>
            <span className="text-second">confidence</span>
            <b className="w-14 text-right whitespace-nowrap">{percent(candidate.confidence)}</b>
          </header>
          <ul>
            {candidate.evidence.map((evidence) => (
              <Evidence key={evidence.text} evidence={evidence} view={view} />
            ))}
          </ul>
          {candidate.next && <p className="text-second">Next: {candidate.next}</p>}
        </article>
      ))}
      {view.candidates.length > 0 && view.unexplained > 0.005 && (
        <p className="mt-1 text-second">{percent(view.unexplained)} of the change is explained by none of them.</p>
      )}
      {view.candidates.length > 0 && view.none != null && view.none >= LEAST_NONE && (
        <p className="mt-1 text-second">
          None of these: <b>{percent(view.none)}</b>. The confidences of all candidates and of none of them add up to
          100 %.
        </p>
      )}
      {view.would_tell.length > 0 && (view.candidates[0]?.confidence ?? 0) < SURE && (
        <section aria-label="What would tell more" className="mt-2">
          <h3>What would tell more</h3>
          <ul className="list-disc pl-5">
            {view.would_tell.map((what) => (
              <li key={what}>{what}</li>
            ))}
          </ul>
        </section>
      )}
    </section>
  );
}

function Standouts({ view }: { view: View }) {
  const { unit } = view.effect;
  const [standouts, offer] = useFirst(view.standouts, MOST_ROWS, "values");
  return (
    <section aria-label="Over-represented values">
      <h2>
        Over-represented values <span>among slow or failed requests, against other values</span>
      </h2>
      {view.standouts.length === 0 ? (
        <p className="text-second">
          No attribute value tells the {view.symptom.signal === "errors" ? "failed" : "slow"} requests from the others.
        </p>
      ) : (
        <table className="sheet-table table-fixed">
          <thead>
            <tr>
              <th>value</th>
              <th className="num w-[52px]">of slow</th>
              <th className="num w-[66px]">of normal</th>
              <th className="num w-[72px]">excess</th>
              <th className="num w-[72px]">other values</th>
              <th className="num w-[58px]">explains</th>
            </tr>
          </thead>
          <tbody>
            {standouts.map((one) => (
              <tr key={`${one.service} ${one.key} ${one.value}`}>
                <Tip text={one.same_as.map((same) => `${same.service} ${same.key} ${same.value}`).join("\n")}>
                  <td className="max-w-[330px]">
                    <div className="truncate">
                      <span className="text-second">
                        {one.service} {one.key}
                      </span>{" "}
                      {one.example ? (
                        <TraceLink slow={one.example} normal={one.beside ?? undefined} className="underline">
                          {one.value}
                        </TraceLink>
                      ) : (
                        one.value
                      )}
                    </div>
                    {one.only_with && (
                      <div className="text-[12px] text-second">
                        only together with {one.only_with.service} {one.only_with.key}{" "}
                        <span className="text-ink">{one.only_with.value}</span>:{" "}
                        {signed(quantity(one.only_with.excess_with, unit), one.only_with.excess_with)}, with others{" "}
                        {signed(quantity(one.only_with.excess_without, unit), one.only_with.excess_without)}
                      </div>
                    )}
                    {one.same_as.length > 0 && (
                      <div className="text-[12px] text-second">
                        marks the same requests as {one.same_as.length} more values
                      </div>
                    )}
                  </td>
                </Tip>
                <td className="num">{percent(one.share_bad)}</td>
                <td className="num">{percent(one.share_normal)}</td>
                <Tip text={`${one.requests} requests`} quiet>
                  <td className="num">{signed(quantity(one.excess_with, unit), one.excess_with)}</td>
                </Tip>
                <Tip text={`${one.requests} requests; other values in the ${one.others}`}>
                  <td className="num">{signed(quantity(one.excess_others, unit), one.excess_others)}</td>
                </Tip>
                <td className="num">{percent(one.explains)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {offer}
    </section>
  );
}

function Judged({ view }: { view: View }) {
  const { unit } = view.effect;
  const nearest = [...view.changes].sort((a, b) => Math.abs(a.lead_s) - Math.abs(b.lead_s));
  const [changes, offer] = useFirst(nearest, MOST_ROWS, "changes, the nearest to the onset");
  return (
    <section aria-label="What changed">
      <h2>
        What changed <span>near the onset, with the excess of what it touches just before and after</span>
      </h2>
      {view.changes.length === 0 && <p className="text-second">No change was announced near these windows.</p>}
      <table className="sheet-table">
        <tbody>
          {changes.map((one) => (
            <tr key={one.change.id}>
              <Tip text={dayAndClock(one.change.at)} quiet>
                <td>{changeTitle(one.change)}</td>
              </Tip>
              <td className="num text-second">
                {one.lead_s === 0 ? "at the onset" : `${span(one.lead_s)} ${one.lead_s > 0 ? "before" : "after"}`}
              </td>
              <td className="num">
                {one.before == null || one.after == null
                  ? ""
                  : `${quantity(one.before, unit)} → ${quantity(one.after, unit)}`}
              </td>
              <td className={`pl-3! ${one.verdict === "responsible" ? "font-semibold text-rust" : "text-second"}`}>
                <Tip text={one.verdict === "calls" ? `its calls of ${one.entity?.name}` : undefined}>
                  <span>{one.told}</span>
                </Tip>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {offer}
    </section>
  );
}

function Parts({ view }: { view: View }) {
  const { unit } = view.effect;
  const [isTraffic, isTime] = [view.symptom.signal === "throughput", view.symptom.signal === "latency"];
  const [parts, offer] = useFirst(view.contributions, MOST_PARTS, "parts");
  return (
    <section className="mt-4" aria-label="All parts">
      <h2>
        All parts{" "}
        <span>
          {isTraffic ? "by who asks and for what" : "mean of a request; each leads to an example beside a normal one"}
          {`; they add up to ${signed(quantity(view.effect.delta, unit), view.effect.delta)}`}
        </span>
      </h2>
      <table className="sheet-table">
        <thead>
          <tr>
            <th>part</th>
            <th>operation</th>
            {isTime && <th className="num">calls</th>}
            <th className="num text-kelp!">reference</th>
            <th className="num text-rust!">focus</th>
            <th className="num">difference</th>
            <th className="num">95 % interval</th>
            {isTime && <th className="num">by more calls</th>}
            {isTime && <th className="num">by slower calls</th>}
          </tr>
        </thead>
        <tbody>
          {parts.map((one) => (
            <tr key={Object.values(one.part).join(" ")}>
              <td>
                {one.example ? (
                  <TraceLink
                    slow={one.example}
                    normal={one.beside ?? undefined}
                    className="underline decoration-line underline-offset-2"
                  >
                    {one.name}
                  </TraceLink>
                ) : (
                  one.name
                )}
              </td>
              <td className="max-w-[260px] font-mono text-[12px]">
                <Copyable text={one.part.operation}>{one.part.operation}</Copyable>
              </td>
              {isTime && (
                <td className="num">
                  {significant(one.calls_reference, 2)} → {significant(one.calls_focus, 2)}
                </td>
              )}
              <td className="num">{quantity(one.reference, unit)}</td>
              <td className="num">{quantity(one.focus, unit)}</td>
              <td className="num">{signed(quantity(one.delta, unit), one.delta)}</td>
              <td className="num text-second">
                {quantity(one.low, unit)} to {quantity(one.high, unit)}
              </td>
              {isTime && <td className="num">{quantity(one.more_calls, unit)}</td>}
              {isTime && <td className="num">{quantity(one.slower_calls, unit)}</td>}
            </tr>
          ))}
        </tbody>
      </table>
      {offer}
    </section>
  );
}
