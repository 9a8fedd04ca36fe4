/** Exactly what to paste, with this server's address in it. */
const origin = globalThis.location?.origin ?? "";

export const RECIPES = {
  "an OpenTelemetry SDK": `export OTEL_EXPORTER_OTLP_ENDPOINT=${origin}
export OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf
export OTEL_EXPORTER_OTLP_HEADERS="Authorization=Bearer TOKEN"`,
  "a collector": `exporters:
  otlphttp/wirbel:
    endpoint: ${origin}
    headers: {Authorization: "Bearer TOKEN"}
service:
  pipelines:
    traces:  {receivers: [otlp], exporters: [otlphttp/wirbel]}
    metrics: {receivers: [otlp], exporters: [otlphttp/wirbel]}
    logs:    {receivers: [otlp], exporters: [otlphttp/wirbel]}`,
  "a deployment script": `curl ${origin}/v1/changes -H "Authorization: Bearer TOKEN" \\
  -H "Content-Type: application/json" \\
  -d '{"kind": "deploy", "at": "2026-03-04T09:15:00Z", "service": "NAME", "version": "1.2.3"}'`,
} as const;

/** What has to be sent for each thing that Wirbel understands, and what it adds. */
export const STEPS: Record<string, { adds: string; paste: string }> = {
  traces: {
    adds: "requests, latency, errors, who calls whom, and where the time goes",
    paste: RECIPES["an OpenTelemetry SDK"],
  },
  metrics: {
    adds: "processors, memory, pools and queues: what is near its limit",
    paste: `${RECIPES["an OpenTelemetry SDK"]}\nexport OTEL_METRICS_EXPORTER=otlp`,
  },
  logs: {
    adds: "messages that are new or multiplied when something breaks",
    paste: `${RECIPES["an OpenTelemetry SDK"]}\nexport OTEL_LOGS_EXPORTER=otlp`,
  },
  changes: { adds: "which deploy, flag or configuration did it", paste: RECIPES["a deployment script"] },
  versions: {
    adds: "one version held against the others",
    paste: 'export OTEL_RESOURCE_ATTRIBUTES="service.version=1.2.3"',
  },
  hosts: {
    adds: "a slow host or a noisy neighbour told from a slow service",
    paste: `receivers:
  hostmetrics:
    scrapers: {cpu: {}, memory: {}, disk: {}, filesystem: {}, network: {}}
processors:
  resourcedetection: {detectors: [system]}
${RECIPES["a collector"]}`,
  },
};
