import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useId, useState } from "react";
import { useOutletContext } from "react-router";
import { client, take } from "../../api/client";
import type { FrameContext } from "../../frame/Frame";
import { useScope } from "../../frame/scope";
import { FormPopover } from "../../shared/FormPopover";
import { Refused } from "../../shared/Refused";
import { told } from "../../shared/Toasts";

const PERCENTILES = ["p50", "p99"];
const OFFERED = 200; // metrics, of those that fit

/** One more series to watch: a percentile or a metric of a service. */
export function Choose() {
  return (
    <FormPopover trigger="Watch another series" label="Watch another series">
      {(done) => <Form done={done} />}
    </FormPopover>
  );
}

function Form({ done }: { done: () => void }) {
  const queries = useQueryClient();
  const [scope] = useScope();
  const [{ service, metric }, set] = useState({ service: "", metric: "" });
  const ids = { services: useId(), metrics: useId() };
  const { ribbon } = useOutletContext<FrameContext>();
  const environment = scope.environment ?? ribbon?.environments[0] ?? "default";
  const services = useQuery({
    queryKey: ["services", environment],
    queryFn: () => take(client.GET("/api/services", { params: { query: { environment } } })),
  });
  const metrics = useQuery({
    queryKey: ["known-metrics", service, environment],
    enabled: services.data?.includes(service) ?? false,
    queryFn: () => take(client.GET("/api/known/metrics", { params: { query: { service, environment } } })),
  });
  const names = [...PERCENTILES, ...new Set((metrics.data ?? []).map((row) => row.name))];
  const watch = useMutation({
    mutationFn: () => take(client.POST("/api/watched", { body: { environment, service, metric, budget: 1 } })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["watched"] });
      told(`${metric} of ${service} is watched from now on, and over its history.`);
      done();
    },
  });
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        watch.mutate();
      }}
    >
      <p className="text-second">In {environment}. It may have one false deviation a week; change that afterwards.</p>
      <label className="flex items-baseline gap-2">
        <span className="w-16">Service</span>
        <input
          className="field flex-1"
          required
          list={ids.services}
          value={service}
          onChange={(event) => set({ service: event.target.value, metric })}
        />
        <datalist id={ids.services}>
          {(services.data ?? []).map((name) => (
            <option key={name}>{name}</option>
          ))}
        </datalist>
      </label>
      <label className="flex items-baseline gap-2">
        <span className="w-16">Measure</span>
        <input
          className="field flex-1"
          required
          list={ids.metrics}
          placeholder="p99, or a metric that it sends"
          value={metric}
          onChange={(event) => set({ service, metric: event.target.value })}
        />
        <datalist id={ids.metrics}>
          {names.slice(0, OFFERED).map((name) => (
            <option key={name}>{name}</option>
          ))}
        </datalist>
      </label>
      <Refused error={watch.error} />
      <div className="flex justify-end">
        <button type="submit" className="action action-main" disabled={watch.isPending}>
          {watch.isPending ? "Reading its history…" : "Watch it"}
        </button>
      </div>
    </form>
  );
}
