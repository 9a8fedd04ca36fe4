import { useQuery } from "@tanstack/react-query";
import { Command } from "cmdk";
import { useEffect, useRef, useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { client, take } from "../api/client";

const views = [
  ["Overview", "/"],
  ["Services", "/services"],
  ["Traces", "/traces"],
  ["Changes", "/changes"],
  ["Inquiries", "/inquiries"],
] as const;
const TRACE = /^[0-9a-f]{32}$/;

/** Goes to a service, a view or a trace by its id. `/` leads here from anywhere. */
export function CommandField() {
  const navigate = useNavigate();
  const { search } = useLocation();
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const input = useRef<HTMLInputElement>(null);
  const services = useQuery({
    queryKey: ["services"],
    queryFn: () => take(client.GET("/api/services")),
    enabled: open,
  });
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const typing = event.target instanceof HTMLElement && event.target.closest("input, select, textarea");
      if (event.key === "/" && !typing && !event.ctrlKey && !event.metaKey) {
        event.preventDefault();
        input.current?.focus();
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
  const go = (pathname: string) => {
    setText("");
    setOpen(false);
    input.current?.blur();
    void navigate({ pathname, search });
  };
  const item = "cursor-pointer px-3 py-1 data-[selected=true]:bg-ground";
  const trace = text.trim().toLowerCase();
  return (
    <Command
      className="relative w-[400px]"
      label="Go to"
      onKeyDown={(event) => event.key === "Escape" && input.current?.blur()}
    >
      <Command.Input
        ref={input}
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
      {open && (
        <Command.List className="absolute top-7 z-40 max-h-80 w-full overflow-auto border border-ink bg-sheet py-1">
          <Command.Empty className="px-3 py-1 text-second">No match.</Command.Empty>
          {TRACE.test(trace) && (
            <Command.Item className={item} value={trace} onSelect={() => go(`/traces/${trace}`)}>
              trace {trace}
            </Command.Item>
          )}
          {services.data?.map((name) => (
            <Command.Item
              key={name}
              className={item}
              value={`service ${name}`}
              onSelect={() => go(`/services/${encodeURIComponent(name)}`)}
            >
              <span className="text-second">service</span> {name}
            </Command.Item>
          ))}
          {views.map(([name, to]) => (
            <Command.Item key={to} className={item} value={`view ${name}`} onSelect={() => go(to)}>
              <span className="text-second">view</span> {name}
            </Command.Item>
          ))}
        </Command.List>
      )}
    </Command>
  );
}
