import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Link, Route, Routes } from "react-router";
import { Gate } from "./shared/gate";
import { Notice } from "./shared/notice";
import { Palette } from "./shared/palette";
import { applyTheme, followSystem } from "./shared/theme";
import { SessionPage } from "./session/page";
import { SessionsPage } from "./sessions/page";
import "./style.css";

const ContractsPage = lazy(() => import("./contracts/page"));
const ContractPage = lazy(() => import("./contracts/contract"));
const DrillsPage = lazy(() => import("./drills/page"));
const TrialPage = lazy(() => import("./drills/trial"));
const PlayPage = lazy(() => import("./drills/play"));
const RecordingPage = lazy(() => import("./session/recording"));
const CallsPage = lazy(() => import("./calls/page"));
const SettingsPage = lazy(() => import("./settings/page"));

applyTheme();
followSystem();

function Nowhere() {
  return (
    <main className="p-6">
      <h1 className="text-lg font-semibold">Nothing is here</h1>
      <p className="mt-2">
        The console has no page at this address.{" "}
        <Link className="text-act underline" to="/">
          All sessions
        </Link>
      </p>
    </main>
  );
}

createRoot(document.getElementById("root") as HTMLElement).render(
  <StrictMode>
    <BrowserRouter>
      <Gate>
        <div className="flex h-full flex-col">
          <Notice />
          <div className="min-h-0 flex-1">
            <Suspense fallback={<p className="p-4 text-muted">Reading…</p>}>
              <Routes>
                <Route path="/" element={<SessionsPage />} />
                <Route path="/sessions/:id" element={<SessionPage />} />
                <Route path="/recordings/:id" element={<RecordingPage />} />
                <Route path="/contracts" element={<ContractsPage />} />
                <Route path="/contracts/:name" element={<ContractPage />} />
                <Route path="/drills" element={<DrillsPage />} />
                <Route path="/trials/:id" element={<TrialPage />} />
                <Route path="/trials/:id/play" element={<PlayPage />} />
                <Route path="/calls" element={<CallsPage />} />
                <Route path="/calls/:name" element={<CallsPage />} />
                <Route path="/settings" element={<SettingsPage />} />
                <Route path="*" element={<Nowhere />} />
              </Routes>
            </Suspense>
            <Palette />
          </div>
        </div>
      </Gate>
    </BrowserRouter>
  </StrictMode>,
);
