import { useQuery } from "@tanstack/react-query";
import { client, type Schemas, take } from "../api/client";
import type { Span, Windows } from "../frame/scope";

type View = Schemas["InquiryView"];
const MARGIN = 0.08; // of its windows' time, that is drawn on both sides of them
const MINUTE = 60_000;

export function useInquiry(id: string | undefined) {
  return useQuery({
    queryKey: ["inquiry", id],
    queryFn: () => take(client.GET("/api/inquiries/{inquiry}", { params: { path: { inquiry: id ?? "" } } })),
    enabled: id !== undefined,
    staleTime: Infinity,
  });
}

/** The windows that an inquiry was asked about. */
export const windowsOf = ({ focus, reference }: View): Windows => ({
  focus: { start: Date.parse(focus.from), end: Date.parse(focus.to) },
  reference: { start: Date.parse(reference.from), end: Date.parse(reference.to) },
  chosen: true,
});

/** The stretch of time in which both windows can be seen. */
export function rangeAround({ focus, reference }: Windows): Span {
  const [start, end] = [Math.min(focus.start, reference.start), Math.max(focus.end, reference.end)];
  const margin = Math.max(MINUTE, Math.round(((end - start) * MARGIN) / MINUTE) * MINUTE);
  return { start: start - margin, end: end + margin };
}
