import { useMutation } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useNavigate, useOutletContext } from "react-router";
import { client, take } from "../api/client";
import type { FrameContext } from "../frame/Frame";
import { inFrame, type Span, timesOf, useScope, type Windows, within } from "../frame/scope";

export interface Asked {
  service: string;
  operation?: string | null;
  signal: string;
  focus?: Span;
}

/** Opens an inquiry with the windows in force, and goes to it, where its own windows are shown. */
export function useFindCause(windows: Windows) {
  const navigate = useNavigate();
  const [scope] = useScope();
  const running = useRef<AbortController | null>(null);
  const find = useMutation({
    mutationFn: (asked: Asked) => {
      running.current = new AbortController();
      return take(
        client.POST("/api/inquiries", {
          signal: running.current.signal,
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
      );
    },
    onSuccess: (inquiry) => void navigate({ pathname: `/inquiries/${inquiry.id}`, search: inFrame(within(scope)) }),
  });
  const stop = () => {
    running.current?.abort();
    find.reset();
  };
  return { ...find, stop };
}

/** That an inquiry is being made, for how long, and how to stop it; or why there is none. */
export function Finding({ find }: { find: ReturnType<typeof useFindCause> }) {
  if (find.isPending) return <Progress stop={find.stop} />;
  return find.error ? (
    <span role="alert" className="max-w-72 text-rust">
      {find.error.message}
    </span>
  ) : null;
}

function Progress({ stop }: { stop: () => void }) {
  const [seconds, setSeconds] = useState(0);
  useEffect(() => {
    const timer = window.setInterval(() => setSeconds((soFar) => soFar + 1), 1000);
    return () => window.clearInterval(timer);
  }, []);
  return (
    <span role="status" className="whitespace-nowrap text-second">
      Reading traces, metrics, logs and changes… {seconds > 0 && `${seconds} s `}
      <button type="button" className="underline" onClick={stop}>
        Stop
      </button>
    </span>
  );
}

interface Props {
  /** Null where nothing stands out: there is nothing to find the cause of. */
  asked: Asked | null;
  windows: Windows;
  main?: boolean;
  label?: string;
}

export function FindCause({ asked, windows, main = false, label = main ? "Find cause" : "find cause" }: Props) {
  const { me } = useOutletContext<FrameContext>();
  const find = useFindCause(windows);
  if (!asked || !me.may_respond) return null;
  return (
    <span className="inline-flex items-center gap-2">
      <Finding find={find} />
      {!find.isPending && (
        <button
          type="button"
          data-find-cause={main || undefined}
          aria-label={main ? undefined : `find cause at ${asked.operation ?? asked.service}`}
          className={main ? "action action-main" : "underline decoration-line underline-offset-2 hover:decoration-ink"}
          onClick={() => find.mutate(asked)}
        >
          {label}
        </button>
      )}
    </span>
  );
}
