import type { QueryKey } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useStop } from "./useStop";

const PATIENCE_MS = 1500;

interface WaitingProps {
  error: Error | null;
  what: string;
  verb?: string;
  /** Of a question that may take long: it can be stopped, which stops the server's work too. */
  stops?: QueryKey;
}

/** What stands where an answer will be: what is read, or why there is none. */
export function Waiting({ error, what, verb = "Reading", stops }: WaitingProps) {
  if (error)
    return (
      <p role="alert" className="py-6 text-rust">
        {error.message}
      </p>
    );
  return stops ? <Stoppable key={stops.join(" ")} what={what} stops={stops} /> : <Reading what={what} verb={verb} />;
}

function Reading({ what, verb = "Reading" }: { what: string; verb?: string }) {
  return (
    <p className="py-6 text-second">
      {verb} {what}…
    </p>
  );
}

function Stoppable({ what, stops }: { what: string; stops: QueryKey }) {
  const [stopped, turn] = useStop(stops);
  const [isLong, setLong] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setLong(true), PATIENCE_MS);
    return () => clearTimeout(timer);
  }, []);
  if (!isLong) return <Reading what={what} />;
  return (
    <p className="py-6 text-second">
      {stopped ? `Stopped. Nothing of ${what} is shown.` : `Still reading ${what}. A shorter window is quicker.`}{" "}
      <button type="button" className="action ml-2" onClick={turn}>
        {stopped ? "Ask again" : "Stop"}
      </button>
    </p>
  );
}
