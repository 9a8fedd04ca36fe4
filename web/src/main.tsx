import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { NuqsAdapter } from "nuqs/adapters/react-router/v7";
import { StrictMode, useRef } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Route, Routes } from "react-router";
import { askAhead } from "./ahead";
import { ApiError } from "./api/client";
import { Compared, Frame, meQuery, useMe } from "./frame/Frame";
import { startTheme } from "./frame/theme";
import { Waiting } from "./shared/Waiting";
import { useZone } from "./shared/zone";
import "./styles.css";
import { Tips } from "./shared/Tip";
import { Changes } from "./views/changes/Changes";
import { Disturbance } from "./views/disturbances/Disturbance";
import { Disturbances } from "./views/disturbances/Disturbances";
import { Inquiries } from "./views/inquiry/Inquiries";
import { Inquiry } from "./views/inquiry/Inquiry";
import { Intake } from "./views/intake/Intake";
import { Overview } from "./views/overview/Overview";
import { Practice } from "./views/practice/Practice";
import { Service } from "./views/service/Service";
import { Services } from "./views/service/Services";
import { SignIn } from "./views/signin/SignIn";
import { Trace } from "./views/trace/Trace";
import { Traces } from "./views/traces/Traces";
import { Watched } from "./views/watched/Watched";

const BETWEEN_LOOKS_MS = 50;

/** A session that ended leads to sign-in, and from there back to the same address. */
const onError = (error: Error) => {
  const ended =
    error instanceof ApiError && error.status === 401 && queries.getQueryData(meQuery.queryKey) !== undefined;
  if (ended) void afterChanges().then(() => queries.resetQueries({ queryKey: meQuery.queryKey }));
};

/** Who changes their password gets another session with the answer: what was asked meanwhile was refused to the old one. */
async function afterChanges() {
  while (queries.isMutating() > 0) await new Promise((resume) => setTimeout(resume, BETWEEN_LOOKS_MS));
}

const queries = new QueryClient({
  queryCache: new QueryCache({ onError }),
  mutationCache: new MutationCache({ onError }),
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      refetchOnWindowFocus: false,
      retry: (count, error) => !(error instanceof ApiError && error.status >= 400 && error.status < 500) && count < 2,
    },
  },
});

function App() {
  const me = useMe();
  const zone = useZone(); // everything that tells a time is drawn anew in another one
  const wasSignedIn = useRef(false);
  if (me.data) wasSignedIn.current = true;
  if (me.isPending) return null;
  if (me.error instanceof ApiError && me.error.status === 401) return <SignIn ended={wasSignedIn.current} />;
  if (!me.data) return <Waiting error={me.error} what="sign-in" verb="Checking" />;
  return (
    <Routes>
      <Route element={<Frame key={zone} me={me.data} />}>
        <Route element={<Compared />}>
          <Route index element={<Overview />} />
          <Route path="services" element={<Services />} />
          <Route path="services/:name" element={<Service />} />
          <Route path="traces" element={<Traces />} />
          <Route path="changes" element={<Changes />} />
          <Route path="watched" element={<Watched />} />
          <Route path="disturbances/:id" element={<Disturbance />} />
        </Route>
        <Route path="traces/:trace" element={<Trace />} />
        <Route path="disturbances" element={<Disturbances />} />
        <Route path="inquiries" element={<Inquiries />} />
        <Route path="inquiries/:id" element={<Inquiry />} />
        <Route path="intake" element={<Intake />} />
        <Route path="demo" element={<Practice />} />
        <Route
          path="*"
          element={<p className="py-6">There is no such view. The list at the left has all of them.</p>}
        />
      </Route>
    </Routes>
  );
}

void askAhead(queries, window.location);
startTheme();
const root = document.getElementById("root");
if (root)
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <NuqsAdapter>
            <Tips>
              <App />
            </Tips>
          </NuqsAdapter>
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
