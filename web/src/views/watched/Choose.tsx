import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useId, useState } from "react";
import { useOutletContext } from "react-router";
import { client, take } from "../../api/client";
import type { FrameContext } from "../../frame/Frame";
import { useScope } from "../../frame/scope";
import { useScopes } from "../../frame/scopes";
import { FormPopover } from "../../shared/FormPopover";
import { Refused } from "../../shared/Refused";
import { Suggested } from "../../shared/Suggested";
import { told } from "../../shared/Toasts";

const OF_SERVICES = ["p50", "p99"]; // beside metrics; the rest is watched from the start
const OF_MANY = ["p50", "p95", "p99", "failed share", "requests"];
const [SERVICE, ALL, SCOPE] = ["service", "all", "scope "]; // of whom; the name of a scope follows
const OFFERED = 200; // metrics, of those that fit

/** One more series to watch: a percentile or a metric of a service, or of the requests of many together. */
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
  const [given, set] = useState({ of: scope.scope ? SCOPE + scope.scope : SERVICE, service: "", metric: "" });
  const { of, service, metric } = given;
  const whom = useId();
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
  const scopes = useScopes(null, true);
  const names = of === SERVICE ? [...OF_SERVICES, ...new Set((metrics.data ?? []).map((row) => row.name))] : OF_MANY;
  const whose = of === SERVICE ? { service } : of === ALL ? {} : { scope: of.slice(SCOPE.length) };
  const watch = useMutation({
    mutationFn: () => take(client.POST("/api/watched", { body: { environment, ...whose, metric, budget: 1 } })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["watched"] });
      told(
        `${metric} of ${whose.service ?? whose.scope ?? "all services"} is watched from now on, and over its history.`,
      );
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
      <div className="flex items-baseline gap-2">
        <label className="w-16" htmlFor={whom}>
          Of
        </label>
        <select
          id={whom}
          className="field flex-1"
          value={of}
          onChange={(event) => set({ ...given, of: event.target.value, metric: "" })}
        >
          <option value={SERVICE}>one service</option>
          <option value={ALL}>all services together</option>
          {(scopes.data ?? []).map((row) => (
            <option key={row.id} value={SCOPE + row.name}>
              the services of {row.name} together
            </option>
          ))}
        </select>
      </div>
      {of === SERVICE && (
        <Suggested
          label="Service"
          width="w-16"
          options={services.data ?? []}
          value={service}
          set={(value) => set({ ...given, service: value })}
        />
      )}
      <Suggested
        label="Measure"
        width="w-16"
        options={names.slice(0, OFFERED)}
        placeholder={of === SERVICE ? "p99, or a metric that it sends" : "p95, of where people come in"}
        value={metric}
        set={(value) => set({ ...given, metric: value })}
      />
      <Refused error={watch.error} />
      <div className="flex justify-end">
        <button type="submit" className="action action-main" disabled={watch.isPending}>
          {watch.isPending ? "Reading its history…" : "Watch it"}
        </button>
      </div>
    </form>
  );
}
