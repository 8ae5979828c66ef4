import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Link, Route, Routes } from "react-router";
import { Notice } from "./shared/notice";
import { SessionPage } from "./session/page";
import { SessionsPage } from "./sessions/page";
import "./style.css";

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
      <div className="flex h-full flex-col">
        <Notice />
        <div className="min-h-0 flex-1">
          <Routes>
            <Route path="/" element={<SessionsPage />} />
            <Route path="/sessions/:id" element={<SessionPage />} />
            <Route path="*" element={<Nowhere />} />
          </Routes>
        </div>
      </div>
    </BrowserRouter>
  </StrictMode>,
);
