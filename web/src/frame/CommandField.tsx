import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Command } from "cmdk";
import { useRef, useState } from "react";
import { useNavigate } from "react-router";
import { client, take } from "../api/client";
import { toService } from "../views/places";
import { type Place, useJump } from "./jump";

const views = [
  ["Overview", "/"],
  ["Services", "/services"],
  ["Traces", "/traces"],
  ["Changes", "/changes"],
  ["Inquiries", "/inquiries"],
  ["Intake", "/intake"],
] as const;
const MOST = 40; // services that are offered
const TRACE = /^[0-9a-f]{32}$/;

/** Goes to a service, a view or a trace by its id. `/` leads here from anywhere. */
export function CommandField() {
  const navigate = useNavigate();
  const jump = useJump();
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const input = useRef<HTMLInputElement>(null);
  const services = useQuery({
    queryKey: ["services", text.trim()],
    queryFn: ({ signal }) =>
      take(client.GET("/api/services", { signal, params: { query: { containing: text.trim() || null } } })),
    enabled: open,
    placeholderData: keepPreviousData,
  });
  const go = (to: Place | string) => {
    setText("");
    setOpen(false);
    input.current?.blur();
    void navigate(jump(to));
  };
  const item = "cursor-pointer px-3 py-1 data-[selected=true]:bg-ground";
  const trace = text.trim().toLowerCase();
  return (
    <Command
      className="relative w-[400px] min-w-40 shrink"
      label="Go to"
      onKeyDown={(event) => event.key === "Escape" && input.current?.blur()}
    >
      <Command.Input
        ref={input}
        data-command-field
        value={text}
        onValueChange={setText}
        onFocus={() => setOpen(true)}
        onBlur={() => window.setTimeout(() => setOpen(false), 150)}
        placeholder="Go to a service, view or trace id"
        className="w-full border-b border-ink bg-transparent pb-[2px] outline-none placeholder:text-second"
      />
      <span aria-hidden="true" className="absolute top-0 right-2 text-second">
        /
      </span>
      <Command.List
        hidden={!open}
        className="absolute top-7 z-40 max-h-80 w-full overflow-auto border border-ink bg-sheet py-1"
      >
        <Command.Empty className="px-3 py-1 text-second">No match.</Command.Empty>
        {TRACE.test(trace) && (
          <Command.Item className={item} value={trace} onSelect={() => go(`/traces/${trace}`)}>
            trace {trace}
          </Command.Item>
        )}
        {services.data?.slice(0, MOST).map((name) => (
          <Command.Item key={name} className={item} value={`service ${name}`} onSelect={() => go(toService(name))}>
            <span className="text-second">service</span> {name}
          </Command.Item>
        ))}
        {(services.data?.length ?? 0) > MOST && (
          <p className="px-3 py-1 text-second">and more services: type more of the name</p>
        )}
        {views.map(([name, to]) => (
          <Command.Item key={to} className={item} value={`view ${name}`} onSelect={() => go(to)}>
            <span className="text-second">view</span> {name}
          </Command.Item>
        ))}
      </Command.List>
    </Command>
  );
}
