// Drives the console in headless Chromium against the real service on a database of its own.

import { AxeBuilder } from "@axe-core/playwright";
import { execFileSync, spawn, type ChildProcess } from "node:child_process";
import { mkdtempSync, readFileSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { chromium, type Browser, type Page } from "playwright-core";
import { afterAll, beforeAll, expect, test, vi } from "vitest";

const binary = process.env.KAMERAD_TEST_BINARY ?? "../bin/kamerad";
const admin = process.env.KAMERAD_TEST_DATABASE;
const database = `test_console_${process.pid}`;
const errors: string[] = [];
let service: ChildProcess;
let browser: Browser;
let page: Page;
let address = "";

const sql = (text: string) => execFileSync("psql", ["-qAt", "-d", admin as string, "-c", text]);
const kamerad = (...args: string[]) =>
  execFileSync(binary, args, { env: { ...process.env, KAMERAD_SERVICE: address, NO_COLOR: "1" }, encoding: "utf8" });

// What a cell of the sheet shows: the value, and the word of its sign.
async function cell(row: string, column: string): Promise<string> {
  const text = await page.locator(`[data-row="${row}"] [data-column="${column}"]`).innerText();
  return text.replace(/\s+/g, " ").trim();
}

async function shows(row: string, column: string, want: string | RegExp): Promise<void> {
  await expect.poll(() => cell(row, column), { timeout: 10_000 }).toMatch(want);
}

const decision = () => page.getByTestId("decision");

async function openClient(name: string, role = "player"): Promise<void> {
  await page.getByRole("button", { name: "Open test client" }).click();
  await page.getByLabel("Name").fill(name);
  await page.getByLabel("Role").selectOption(role);
  await page.getByRole("button", { name: "Open", exact: true }).click();
  await page.getByRole("heading", { name: `Ask as ${name}` }).waitFor();
}

async function violations(): Promise<string[]> {
  const found = await new AxeBuilder({ page })
    .withTags(["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"])
    .analyze();
  return found.violations.map((v) => `${v.id}: ${v.nodes.map((n) => `${n.html} ${n.failureSummary}`).join(" ")}`);
}

beforeAll(async () => {
  if (!admin) throw new Error("KAMERAD_TEST_DATABASE is not set: run the tests with ./run test");
  sql(`create database ${database}`);
  const file = join(mkdtempSync(join(tmpdir(), "console-")), "address");
  writeFileSync(file, "");
  service = spawn(binary, ["serve", "--listen", "127.0.0.1:0", "--address-file", file], {
    env: { ...process.env, KAMERAD_DATABASE: admin.replace("/postgres?", `/${database}?`) },
    stdio: ["ignore", "ignore", "inherit"],
  });
  await vi.waitFor(() => expect((address = readFileSync(file, "utf8").trim())).toMatch(/^http/), { timeout: 30_000 });
  const flags =
    "--no-sandbox --disable-gpu --disable-quic --no-first-run " +
    "--disable-background-networking --disable-component-update --disable-sync";
  browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: flags.split(" ") });
  page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.on("pageerror", (e) => errors.push(e.message));
  page.on("console", (m) => m.type() === "error" && errors.push(m.text()));
});

afterAll(async () => {
  await browser?.close();
  service?.kill("SIGTERM");
  await new Promise((done) => (service?.exitCode === null ? service.once("exit", done) : done(null)));
  sql(`drop database ${database} with (force)`);
});

test("an empty service says what to do", async () => {
  await page.goto(address);
  await page.getByText("No session was opened yet.").waitFor();
  expect(await violations()).toEqual([]);
});

test("a session is opened, two test clients join, a legal and an illegal request are decided", async () => {
  kamerad("contract", "publish", "../internal/tests/testservice/dive.kam");
  await page.getByRole("button", { name: "Open session" }).click();
  await page.getByLabel("Contract").selectOption("tidewreck");
  await page.getByRole("button", { name: "Open", exact: true }).click();
  await page.getByRole("heading", { name: "Session 1" }).waitFor();
  await page.getByText("No client is here.").waitFor();
  await shows("Strongbox.answer", "server", /^"an echo"$/);

  await openClient("Ana");
  await openClient("Bo");
  await shows("Ana.Diver.hull", "Ana", "100 = as the server");
  await shows("Ana.Diver.hull", "Bo", "100 = as the server");
  await page.getByText("= all in step").waitFor();

  await page.getByRole("button", { name: "Ask as Ana" }).click();
  await page.getByLabel("Request").selectOption("Diver.search");
  await page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => decision().innerText()).toMatch(/accepted/);
  await shows("Ana.Diver.hull", "server", "93");
  await shows("Ana.Diver.hull", "Ana", "93 = as the server");
  await shows("Ana.Diver.hull", "Bo", "93 = as the server");
  await shows("Ana.Diver.air", "Ana", "95 = as the server");
  await shows("Ana.Diver.air", "Bo", "– not for this client");
  await shows("Ana.Diver.satchel", "Ana", "3 patch, 3 flare = as the server");
  await shows("Ana.Diver.satchel", "Bo", "– not for this client");
  await page.getByText("100 → 93").waitFor();

  const own = page.getByRole("table", { name: "Time line" }).getByRole("row").filter({ hasText: "Diver.search()" });
  await expect.poll(() => own.first().innerText()).toMatch(/▲ \+\d+ · ● \+\d+/);
  await page.getByRole("button", { name: /^Flow of Diver.search\(\) by Ana/ }).click();
  const flow = page.getByRole("img", { name: /▲ Ana to Server: Diver.search\(\)/ });
  await expect
    .poll(() => flow.getAttribute("aria-label"))
    .toMatch(/Server to ▲ Ana: accepted[\s\S]*Server to ● Bo: Ana.Diver.hull 100 → 93, tick \d+/);
  expect(await flow.getAttribute("aria-label")).not.toMatch(/● Bo: [^;]*satchel/);
  expect(await violations()).toEqual([]);
  await page.getByRole("tab", { name: "Time line" }).click();

  await page.getByLabel("Request").selectOption("Strongbox.guess");
  await page.getByLabel("words").fill("rust");
  await page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => decision().innerText()).toMatch(/accepted, replied false/);
  await page.getByLabel("Request").selectOption("Diver.use");
  await page.getByLabel("item").selectOption("relic");
  await page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => decision().innerText()).toMatch(/denied: not carried/);
  await page.getByLabel("Decision", { exact: true }).getByText("check satchel.has(item)").waitFor();
  const row = page.getByRole("table", { name: "Time line" }).getByRole("row").filter({ hasText: "Diver.use" }).first();
  expect(await row.innerText()).toMatch(/Ana[\s\S]*Diver.use\(relic\)[\s\S]*denied: not carried/);
  await shows("Ana.Diver.satchel", "server", "3 patch, 3 flare");
  expect(await violations()).toEqual([]);
});

test("a forged request, and one on another's diver, change nothing", async () => {
  await page.getByRole("button", { name: "Ask as Bo" }).click();
  await page.getByLabel("Request").selectOption("Diver.use");
  await page.getByRole("combobox", { name: /^On/ }).selectOption({ label: "Ana.Diver" });
  await page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => decision().innerText()).toMatch(/denied: not the owner/);
  await page.getByRole("switch").click();
  await page.getByLabel("Values, as JSON").fill(`"pearl", 3`);
  await page.getByRole("button", { name: "Send forged" }).click();
  await expect.poll(() => decision().innerText()).toMatch(/malformed: Diver.use has 1 arguments, not 2/);
  await page.getByLabel("Values, as JSON").fill(`"pearl`);
  await page.getByRole("button", { name: "Send forged" }).click();
  await page.getByText("The values are no JSON").waitFor();
  const forge = async (words: string, told: RegExp) => {
    await page.getByRole("button", { name: words, exact: true }).click();
    await expect.poll(() => decision().innerText(), { message: words }).toMatch(told);
  };
  await forge("on another's", /denied: not the owner/);
  await forge("item a name that is none", /malformed: .*none of these/);
  await forge("on what is not there", /(denied|dropped|malformed): /);
  await forge("a value too few", /malformed: Diver.use has 1 arguments, not 0/);
  await forge("5 times at once", /dropped/);
  await page.getByLabel("Of those sent at once").waitFor();
  expect(await violations()).toEqual([]);
  await shows("Ana.Diver.satchel", "server", "3 patch, 3 flare");
  await page.getByRole("button", { name: "Close this drawer" }).click();
});

test("rows are filtered, pinned and folded, and the address keeps that", async () => {
  const rows = () => page.locator("[data-row]").count();
  const whole = await rows();
  await page.getByLabel("Filter the rows").fill("hull owner:ana");
  await expect.poll(rows).toBe(1);
  await page.getByLabel("Filter the rows").fill("kelp");
  await page.getByText("No row is as asked for.").waitFor();
  await page.getByRole("button", { name: "Show all" }).click();
  await expect.poll(rows).toBe(whole);
  await page.getByRole("button", { name: "Pin Ana.Diver.air" }).click();
  expect(await page.locator("[data-row]").first().getAttribute("data-row")).toBe("Ana.Diver.air");
  await page.getByRole("button", { name: "Ana.Diver: fold the kind Diver" }).first().click();
  await page.getByText("2 folded").waitFor();
  expect(page.url()).toMatch(/folded=Diver/);
  await page.reload();
  await page.getByText("2 folded").waitFor();
  expect(await violations()).toEqual([]);
  await page.getByRole("button", { name: "pinned 1" }).click();
  await page.getByRole("button", { name: "folded 1" }).click();
  await expect.poll(rows).toBe(whole);
  await page.getByRole("button", { name: "changed in 5 s" }).click();
  await expect.poll(rows, { timeout: 8000 }).toBeLessThan(whole);
  await page.getByRole("button", { name: "changed in 5 s" }).click();
});

test("an entity is told whole: what each property is, who has it, and what changed it", async () => {
  await page.locator('[data-row="Ana.Diver.satchel"]').getByRole("button", { name: "satchel", exact: true }).click();
  const drawer = page.getByRole("complementary", { name: "Ana.Diver" });
  await drawer.getByText("Diver, one for each player").waitFor();
  const item = drawer.getByRole("listitem").filter({ hasText: "satchel" });
  await expect
    .poll(() => item.innerText())
    .toMatch(/stacks, set by the server, to owner[\s\S]*Ana has it[\s\S]*\[0\]\s*3\s*patch[\s\S]*\[1\]\s*3\s*flare/);
  expect(await violations()).toEqual([]);
  await page.locator('[data-row="Ana.Diver.hull"]').getByRole("button", { name: "hull", exact: true }).click();
  await page.setViewportSize({ width: 1280, height: 600 });
  // The reader's place is kept while ticks go by.
  const place = await drawer.evaluate((d) => {
    d.scrollTo(0, d.scrollHeight);
    return d.scrollTop;
  });
  await page.waitForTimeout(400);
  expect(place).toBeGreaterThan(0);
  expect(await drawer.evaluate((d) => d.scrollTop)).toBe(place);
  await page.setViewportSize({ width: 1280, height: 800 });
  await page.reload(); // the address says what the drawer is about
  await drawer.getByText("owner Ana, known to everyone").waitFor();
  await page.getByRole("button", { name: "Close this drawer" }).click();
  await expect.poll(() => drawer.count()).toBe(0);
});

test("a client over a slow link is behind, and nobody else", async () => {
  await page.getByRole("button", { name: "Ask as Bo" }).click();
  await page.getByLabel("Over").selectOption("300 ms");
  await page.getByRole("button", { name: "Ask as Ana" }).click();
  await page.getByLabel("Request").selectOption("Diver.search");
  const before = await cell("Ana.Diver.hull", "server");
  await page.getByRole("button", { name: "Ask", exact: true }).click();
  await shows("Ana.Diver.hull", "Bo", new RegExp(`^${before} \\+[2-9] [2-9] ticks behind$`));
  expect(await cell("Ana.Diver.hull", "server")).not.toBe(before);
  await shows("Ana.Diver.hull", "Ana", "as the server");
  await shows("Ana.Diver.hull", "Bo", "as the server");
  await page.getByRole("button", { name: "Ask as Bo" }).click();
  await page.getByLabel("Over").selectOption("a good link");
  await page.getByRole("button", { name: "Close this drawer" }).click();
});

test("a client that joins from elsewhere appears and leaves; a referee ends the dive", async () => {
  await openClient("Dov", "referee");
  await page.getByLabel("Request").selectOption("Dive.end_dive");
  await page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => decision().innerText()).toMatch(/accepted/);
  await shows("Dive.phase", "Bo", "tally = as the server");
  await page.getByRole("table", { name: "Time line" }).getByText("Dive.turned").waitFor();
  await page.getByRole("tab", { name: "Time line" }).click();

  expect(() => kamerad("ask", "1", "search", "--as", "Cleo")).toThrow(/not in the water|Command failed/);
  await page.getByRole("table", { name: "Time line" }).getByText("denied: not in the water").waitFor();
  await page.getByRole("button", { name: "Close Dov" }).click();
  await expect.poll(() => page.getByRole("columnheader").allInnerTexts()).toHaveLength(5);
});

test("dark and narrow views hold up, and a closed session keeps its decisions", async () => {
  await page.emulateMedia({ colorScheme: "dark" });
  await page.setViewportSize({ width: 1024, height: 700 });
  expect(await violations()).toEqual([]);
  expect(await page.evaluate(() => document.documentElement.scrollWidth <= window.innerWidth)).toBe(true);
  await page.setViewportSize({ width: 1280, height: 800 });
  await page.emulateMedia({ colorScheme: "light" });
  await page.getByRole("button", { name: "Close session" }).click();
  await page.getByText("This session has closed: closed from the console.").waitFor();
  await page.getByRole("table", { name: "Time line" }).getByText("denied: not in the water").waitFor();
  expect(await violations()).toEqual([]);
  await page.goto(`${address}/sessions/77`);
  await page.getByText("there is no session 77; none is open").waitFor();
  expect(errors.filter((e) => !/\b(404|409)\b/.test(e))).toEqual([]);
});

test("what fails inside is counted and told", async () => {
  const file = join(mkdtempSync(join(tmpdir(), "console-")), "kiln.kam");
  writeFileSync(
    file,
    "contract kiln language 1\nshared Oven {\n  heat: int 0..9 = 0\n  glow: int 0..9 = 0\n" +
      "  every 100ms { glow = 9 / heat }\n  every 9s { heat = 1 }\n}\n",
  );
  kamerad("contract", "publish", file);
  const opened = JSON.parse(kamerad("session", "open", "kiln", "--json")) as { id: number };
  await page.goto(`${address}/sessions/${opened.id}`);
  await page.getByRole("tab", { name: /Faults \d+/ }).click();
  const row = page.getByRole("table", { name: "Faults" }).getByRole("row").first();
  await expect
    .poll(() => row.innerText())
    .toMatch(
      /timer of Oven ×\d+[\s\S]*division by zero[\s\S]*Oven\[1\] with heat = 0, glow = 0[\s\S]*line 5 of kiln.kam/,
    );
  expect(await violations()).toEqual([]);
  await page.goto(address);
  await page.getByText(/failed inside \d+ times/).waitFor();
  expect(await violations()).toEqual([]);
});

test("the map shows what has a place, and what is chosen there is chosen in the sheet", async () => {
  const file = join(mkdtempSync(join(tmpdir(), "console-")), "reef.kam");
  writeFileSync(
    file,
    "contract reef language 2\ntype Place = vec2 -90..90 step 0.1\npublic const walls: list<Wall> max 2 = " +
      "[Wall(a = vec(0, -5), b = vec(9, -5))]\ntype Wall { a: Place, b: Place }\n" +
      "type Mark { at: Place, all: list<int 0..9> max 3 }\n" +
      "entity Diver per player { pos: Place = vec(3, 4) set by owner pace distance(old, new) 5 per second burst 5\n" +
      "  request note(whom: ref Diver, mark: Mark) -> int 0..9 limit 4 per second " +
      'check whom != nothing else deny "whom" { reply mark.all[0] } }\n' +
      "entity Eel { pos: Place = vec(0, 0) follows drift; drift: Place = vec(1, 0) once }\n" +
      "shared Sea { on start { spawn Eel } }\n",
  );
  kamerad("contract", "publish", file);
  const opened = JSON.parse(kamerad("session", "open", "reef", "--json")) as { id: number };
  await page.goto(`${address}/sessions/${opened.id}`);
  await openClient("Ana");
  await page.getByRole("button", { name: "Close this drawer" }).click();
  await page.getByRole("button", { name: "Open test client" }).click();
  await page.getByLabel("Name").fill("Bo");
  await page.getByLabel("How many like this").fill("3");
  await page.getByRole("button", { name: "Open", exact: true }).click();
  await page.getByRole("heading", { name: "Ask as Bo" }).waitFor();
  await expect.poll(() => page.getByRole("columnheader").count()).toBe(7);
  await page.getByLabel("at.x").fill("2.5");
  await page.getByLabel("whom").selectOption("Ana.Diver");
  await page.getByRole("button", { name: "Add to all" }).click();
  await page.getByRole("textbox", { name: /^all\[0\]/ }).fill("7");
  await page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => decision().innerText()).toMatch(/accepted, replied 7/);
  await page.getByText(/Diver.note\(\d+, \{"at":\[2.5,0\],"all":\[7\]\}\)/).waitFor();
  expect(await violations()).toEqual([]);
  await page.getByRole("button", { name: "Close this drawer" }).click();
  await page.keyboard.press("2");
  await page.getByText("1 square is").waitFor();
  await page
    .getByLabel("Whose copy is held against the server's")
    .selectOption({ label: "as Bo sees it, against the server" });
  await page.getByText("all where the server has them").waitFor();
  await page.getByLabel("Choose what has a place").selectOption({ label: "Ana.Diver" });
  await page.getByRole("complementary", { name: "Ana.Diver" }).waitFor();
  await page.getByRole("button", { name: "follow" }).click();
  await page.getByRole("button", { name: "Zoom in" }).click();
  await page.keyboard.press("ArrowLeft");
  expect(await page.getByRole("button", { name: "follow" }).getAttribute("aria-pressed")).toBe("false");
  expect(await violations()).toEqual([]);
  expect(page.url()).toMatch(/face=map/);
  await page.keyboard.press("1");
  await page.locator('[data-row="Ana.Diver.pos"]').waitFor();
  await shows("Eel.pos", "Bo", /^\([\d.]+, 0\) = as the server$/);
});
