import { useEffect, useRef, useState } from "react";

const POLL_MS = 3000;
const FALLBACK_MS = 15000;

type Heard = (what: "open" | "closed" | "stored") => void;

/** Calls when something was stored, or when the line to the server opens or closes; returns what ends that. */
function listen(heard: Heard): () => void {
  if (typeof SharedWorker === "undefined") {
    heard("open");
    const polling = window.setInterval(() => heard("stored"), POLL_MS);
    return () => window.clearInterval(polling);
  }
  const { port } = new SharedWorker(new URL("./live.worker.ts", import.meta.url), { type: "module", name: "live" });
  port.addEventListener("message", ({ data }: MessageEvent<"open" | "closed" | "stored">) => heard(data));
  port.start();
  port.postMessage("looks");
  return () => {
    port.postMessage("looks away");
    port.close();
  };
}

/** Whether somebody can see the page. */
function useVisible(): boolean {
  const [visible, setVisible] = useState(!document.hidden);
  useEffect(() => {
    const changed = () => setVisible(!document.hidden);
    const left = () => setVisible(false);
    document.addEventListener("visibilitychange", changed);
    window.addEventListener("pagehide", left);
    window.addEventListener("pageshow", changed);
    return () => {
      document.removeEventListener("visibilitychange", changed);
      window.removeEventListener("pagehide", left);
      window.removeEventListener("pageshow", changed);
    };
  }, []);
  return visible;
}

/** Calls `refresh` when something was stored, and now and then, while somebody looks. Returns whether the line to the server is open. */
export function useLine(wanted: boolean, refresh: () => void): boolean {
  const [open, setOpen] = useState(false);
  const looks = useVisible() && wanted;
  const missed = useRef(false);
  useEffect(() => {
    if (!looks) {
      missed.current = true;
      return;
    }
    if (missed.current) refresh();
    missed.current = false;
    const end = listen((what) => {
      // Of what was stored between the page's first questions and the opening of its line, nobody tells.
      if (what !== "closed") refresh();
      if (what !== "stored") setOpen(what === "open");
    });
    const fallback = window.setInterval(refresh, FALLBACK_MS);
    return () => {
      end();
      window.clearInterval(fallback);
    };
  }, [looks, refresh]);
  return open && looks;
}
