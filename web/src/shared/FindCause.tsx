import { useMutation } from "@tanstack/react-query";
import { useLocation, useNavigate } from "react-router";
import { client, take } from "../api/client";
import { type Span, timesOf, useScope, type Windows } from "../frame/scope";

export interface Asked {
  service: string;
  operation?: string | null;
  signal: string;
  focus?: Span;
}

export const signalOf = (health: string): string =>
  health === "failing" ? "errors" : health === "silent" ? "throughput" : "latency";

/** Opens an inquiry with the windows in force, and goes to it. */
export function useFindCause(windows: Windows) {
  const navigate = useNavigate();
  const { search } = useLocation();
  const [scope] = useScope();
  return useMutation({
    mutationFn: (asked: Asked) =>
      take(
        client.POST("/api/inquiries", {
          body: {
            service: asked.service,
            operation: asked.operation ?? null,
            signal: asked.signal,
            focus: timesOf(asked.focus ?? windows.focus),
            // A stretch of its own gets a reference chosen for it.
            reference: asked.focus ? null : timesOf(windows.reference),
            environment: scope.environment,
          },
        }),
      ),
    onSuccess: (inquiry) => void navigate({ pathname: `/inquiries/${inquiry.id}`, search }),
  });
}

export function FindCause({ asked, windows, main = false }: { asked: Asked; windows: Windows; main?: boolean }) {
  const find = useFindCause(windows);
  return (
    <span className="inline-flex items-center gap-2">
      {find.error && (
        <span role="alert" className="max-w-72 text-rust">
          {find.error.message}
        </span>
      )}
      <button
        type="button"
        data-find-cause={main || undefined}
        aria-label={main ? undefined : `find cause at ${asked.operation ?? asked.service}`}
        disabled={find.isPending}
        className={main ? "action action-main" : "underline decoration-line underline-offset-2 hover:decoration-ink"}
        onClick={() => find.mutate(asked)}
      >
        {find.isPending ? "Reading traces…" : main ? "Find cause" : "find cause"}
      </button>
    </span>
  );
}
