// One open line to the server for all pages of a browser: browsers allow six connections to a host, and a page needs some for its questions.

const pages = new Set<MessagePort>();
let source: EventSource | null = null;

function tell(what: "open" | "closed" | "stored", to: Iterable<MessagePort> = pages): void {
  for (const page of to) page.postMessage(what);
}

function listen(): EventSource {
  const line = new EventSource("/api/live");
  line.addEventListener("open", () => tell("open"));
  line.addEventListener("error", () => tell("closed"));
  line.addEventListener("stored", () => tell("stored"));
  return line;
}

addEventListener("connect", (event) => {
  const page = (event as MessageEvent).ports[0];
  if (!page) return;
  page.addEventListener("message", ({ data }: MessageEvent<"looks" | "looks away">) => {
    if (data === "looks") {
      pages.add(page);
      // A line that was refused for good (signed out, too many) is tried anew.
      if (source?.readyState === EventSource.CLOSED) source = null;
      source ??= listen();
      if (source.readyState === EventSource.OPEN) tell("open", [page]);
      return;
    }
    pages.delete(page);
    if (!pages.size) {
      source?.close();
      source = null;
    }
  });
  page.start();
});
