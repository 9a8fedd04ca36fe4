import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, type Schemas, take } from "../../api/client";
import { clock } from "../../shared/format";
import { Waiting } from "../../shared/Waiting";

const LOOK_AGAIN_MS = 2_000;

/** What the demo can let happen; nothing where no demo runs. */
export function usePractice() {
  return useQuery({
    queryKey: ["practice"],
    queryFn: () => take(client.GET("/api/demo")),
    staleTime: 60_000,
  });
}

/** Faults of the demo world to start, stop and remedy, so that what they do and how it recovers can be watched. */
export function Practice() {
  const queries = useQueryClient();
  const practice = usePractice();
  useQuery({
    queryKey: ["practice", "again"],
    queryFn: async () => {
      await queries.invalidateQueries({ queryKey: ["practice"], exact: true });
      return null;
    },
    refetchInterval: LOOK_AGAIN_MS,
  });
  const order = useMutation({
    mutationFn: (body: Schemas["Order"]) => take(client.POST("/api/demo", { body })),
    onSuccess: (shown) => queries.setQueryData(["practice"], shown),
  });
  if (practice.data === null) return <p className="py-6">No demo is running here.</p>;
  if (!practice.data) return <Waiting error={practice.error} what="the practice faults" />;
  const { acts, waiting } = practice.data;
  const going = acts.filter((act) => act.since !== null);
  return (
    <>
      <div className="mb-2 flex items-baseline justify-between">
        <h1 className="text-[20px] font-bold">
          {going.length
            ? `${going.map((act) => act.name).join(", ")} ${going.length > 1 ? "go" : "goes"} on.`
            : "Nothing is wrong in the demo world."}
        </h1>
        <span role="status" className="text-second">
          {waiting > 0 && "The order was given; it takes effect within seconds."}
          {order.error?.message}
        </span>
      </div>
      <p className="mb-3 text-second">
        Start a fault, find its cause in the other views, then do what would be done about it, and watch the recovery.
        What is felt may take minutes to build up.
      </p>
      <table className="sheet-table">
        <thead>
          <tr>
            <th>fault</th>
            <th>what happens</th>
            <th>since</th>
            <th>
              <span className="sr-only">orders</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {acts.map((act) => (
            <tr key={act.name} data-act={act.name}>
              <td className="font-semibold whitespace-nowrap">{act.name}</td>
              <td className="text-second">{act.about}</td>
              <td className="whitespace-nowrap">{act.since ? clock(act.since) : (act.how ?? "")}</td>
              <td className="text-right whitespace-nowrap">
                {act.since === null ? (
                  <Do act={act.name} what="start" order={order.mutate} />
                ) : (
                  <span className="inline-flex gap-3">
                    {act.remedy && <Do act={act.name} what="remedy" label={act.remedy} order={order.mutate} />}
                    <Do act={act.name} what="stop" order={order.mutate} />
                  </span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

interface DoProps {
  act: string;
  what: Schemas["Order"]["do"];
  label?: string;
  order: (body: Schemas["Order"]) => void;
}

function Do({ act, what, label, order }: DoProps) {
  return (
    <button
      type="button"
      className={what === "remedy" ? "border border-ink px-2" : "underline"}
      aria-label={`${label ?? what}: ${act}`}
      onClick={() => order({ act, do: what })}
    >
      {label ?? what}
    </button>
  );
}
