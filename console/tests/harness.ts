// What tests in the browser share: a service on a database of its own, and a page in headless Chromium.

import { AxeBuilder } from "@axe-core/playwright";
import { execFileSync, spawn, type ChildProcess } from "node:child_process";
import { mkdtempSync, readFileSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { chromium, type Browser, type Page } from "playwright-core";
import { afterAll, beforeAll, expect, vi } from "vitest";

const binary = process.env.KAMERAD_TEST_BINARY ?? "../bin/kamerad";
const admin = process.env.KAMERAD_TEST_DATABASE;

export type Console = {
  page: Page;
  address: string;
  errors: string[]; // that the page has told of
  kamerad: (...args: string[]) => string;
  cell: (row: string, column: string) => Promise<string>;
  shows: (row: string, column: string, want: string | RegExp) => Promise<void>;
  decision: () => ReturnType<Page["getByTestId"]>;
  openClient: (name: string, role?: string) => Promise<void>;
  violations: () => Promise<string[]>; // of WCAG, and what no key comes to
  stop: (signal: "SIGTERM" | "SIGKILL") => Promise<void>;
  start: () => Promise<void>; // again, at the same address
};

// startConsole starts a service and opens a page before the tests of a file, and ends both after them. What it returns
// is filled in by then. command is what the binary is started with.
export function startConsole(name: string, ...command: string[]): Console {
  const database = `test_${name}_${process.pid}`;
  const url = admin?.replace("/postgres?", `/${database}?`);
  const sql = (text: string) => execFileSync("psql", ["-qAt", "-d", admin as string, "-c", text]);
  let service: ChildProcess | undefined;
  let browser: Browser | undefined;
  const c = { errors: [] as string[] } as Console;
  c.kamerad = (...args) =>
    execFileSync(binary, args, {
      env: { ...process.env, KAMERAD_SERVICE: c.address, KAMERAD_DATABASE: url, NO_COLOR: "1" },
      encoding: "utf8",
    });
  // What a cell of the sheet shows: the value, and the word of its sign.
  c.cell = async (row, column) => {
    const text = await c.page
      .locator(`:is([data-row="${row}"], [data-values="${row}"]) [data-column="${column}"]`)
      .innerText();
    return text.replace(/\s+/g, " ").trim();
  };
  c.shows = async (row, column, want) => {
    await expect.poll(() => c.cell(row, column), { timeout: 10_000 }).toMatch(want);
  };
  c.decision = () => c.page.getByTestId("decision");
  c.openClient = async (client, role = "player") => {
    await c.page.getByRole("button", { name: "Open test client" }).click();
    await c.page.getByLabel("Name").fill(client);
    await c.page.getByLabel("Role").selectOption(role);
    await c.page.getByRole("button", { name: "Open", exact: true }).click();
    await c.page.getByRole("heading", { name: `Ask as ${client}` }).waitFor();
  };
  c.violations = async () => {
    const found = await new AxeBuilder({ page: c.page })
      .withTags(["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"])
      .analyze();
    const failures = found.violations.map(
      (v) => `${v.id}: ${v.nodes.map((n) => `${n.html} ${n.failureSummary}`).join(" ")}`,
    );
    return [...failures, ...(await forPointerAlone(c.page))];
  };

  let listen = "127.0.0.1:0";
  c.start = async () => {
    const file = join(folder(), "address");
    writeFileSync(file, "");
    service = spawn(binary, [...command, "--listen", listen, "--address-file", file], {
      env: { ...process.env, KAMERAD_DATABASE: url },
      stdio: ["ignore", "ignore", "inherit"],
    });
    await vi.waitFor(() => expect((c.address = readFileSync(file, "utf8").trim())).toMatch(/^http/), {
      timeout: 30_000,
    });
    listen = c.address.replace("http://", "");
  };
  c.stop = async (signal) => {
    service?.kill(signal);
    await new Promise((done) => (service?.exitCode === null ? service.once("exit", done) : done(null)));
  };

  beforeAll(async () => {
    if (!admin) throw new Error("KAMERAD_TEST_DATABASE is not set: run the tests with ./run test");
    sql(`create database ${database}`);
    await c.start();
    const flags =
      "--no-sandbox --disable-gpu --disable-quic --no-first-run " +
      "--disable-background-networking --disable-component-update --disable-sync";
    browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: flags.split(" ") });
    c.page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
    c.page.setDefaultTimeout(15_000);
    c.page.on("pageerror", (e) => c.errors.push(e.message));
    c.page.on("console", (m) => m.type() === "error" && c.errors.push(m.text()));
  });

  afterAll(async () => {
    await browser?.close();
    await c.stop("SIGTERM");
    sql(`drop database ${database} with (force)`);
  });
  return c;
}

// forPointerAlone lists what does something when it is pressed and cannot be focused. What the map does is what keys,
// the list of its entities and the fields of a request do as well.
function forPointerAlone(page: Page): Promise<string[]> {
  return page.evaluate(() => {
    const handlers = ["onClick", "onDoubleClick", "onMouseDown", "onPointerDown", "onWheel"];
    const out: string[] = [];
    for (const element of document.querySelectorAll<HTMLElement>("#root *, [data-radix-portal] *, [role=dialog]")) {
      const key = Object.keys(element).find((k) => k.startsWith("__reactProps$"));
      const props = key ? (element as unknown as Record<string, Record<string, unknown>>)[key] : undefined;
      if (!handlers.some((h) => props?.[h]) || !element.checkVisibility()) continue;
      const isControl = element.matches("button, a[href], input, select, textarea, summary, label, canvas");
      const isMoving = element.matches("[role=tab], [role=menuitem], [role=option], [role=radio], [role=dialog]");
      const isTrack = !!element.querySelector("[role=slider]"); // along which keys move the thumb
      if (!isControl && !isMoving && !isTrack && element.tabIndex < 0)
        out.push(`for the pointer alone: ${element.outerHTML}`);
    }
    return out;
  });
}

// passedBy presses Tab until the focus comes round, and lists what can be pressed and was not reached, or does not show
// that it has the focus.
export async function passedBy(page: Page): Promise<string[]> {
  await page.evaluate(() => {
    const reached = new Set<Element>();
    (window as unknown as { reached: Set<Element> }).reached = reached;
    document.addEventListener("focusin", (e) => reached.add(e.target as Element));
    if (document.querySelector("[role=dialog]")) return; // it keeps the focus
    const top = document.createElement("span"); // from where Tab begins
    top.tabIndex = -1;
    document.body.prepend(top);
    top.focus();
    top.remove();
    reached.delete(top);
  });
  // look tells whether the focus has come round, to the page itself or to what had it first in a window, and of what
  // has it and does not show it. Some hand it on at once.
  const look = () =>
    page.evaluate(async () => {
      const { reached } = window as unknown as { reached: Set<Element> };
      const at = document.activeElement as HTMLElement;
      const isRound = at === document.body || (at.closest("[role=dialog]") && at === [...reached][0]);
      // A list that scrolls draws its next lines in the next frame.
      const frame = () => new Promise((done) => requestAnimationFrame(done));
      if (at.closest("[role=table]")) await frame().then(frame);
      const isShown = () =>
        getComputedStyle(at.closest(".cm-editor") ?? at).outlineStyle !== "none" ||
        at.matches("body, [role=dialog], [role=tablist], [role=radiogroup]");
      if (!isShown()) await new Promise((done) => setTimeout(done, 100)); // the editor's comes a moment later
      return { isRound, unseen: isShown() ? [] : [`focus is not seen: ${at.outerHTML.slice(0, 300)}`] };
    });
  const out: string[] = [];
  for (let i = 0; i < 500; i++) {
    await page.keyboard.press("Tab");
    const { isRound, unseen } = await look();
    out.push(...unseen);
    if (i > 0 && isRound) break;
  }
  const missed = await page.evaluate(() => {
    const { reached } = window as unknown as { reached: Set<Element> };
    const reachable =
      "button:enabled, a[href], input:enabled, select:enabled, textarea:enabled, summary, [tabindex='0']";
    return [...document.querySelectorAll<HTMLElement>(reachable)]
      .filter((element) => {
        const isHere = element.checkVisibility() && !element.closest("[aria-hidden=true], [inert]");
        // Of radios, and of tabs, one is reached, and the others from there by the arrows. A button asks for files.
        const isOneOf = element.matches("input[type=radio], input[type=file], [role=radio], [role=tab], [role=option]");
        return isHere && !isOneOf && !reached.has(element);
      })
      .map((element) => `passed by: ${element.outerHTML.slice(0, 300)}`);
  });
  return [...out, ...missed];
}

// folder makes a folder for the files of a test.
export function folder(): string {
  return mkdtempSync(join(tmpdir(), "console-"));
}
