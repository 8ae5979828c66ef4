// Drives the other pages of the console in headless Chromium: contracts, drills, the first visit, settings, all by
// keyboard as well; and what is done with test clients becoming a drill.

import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, test } from "vitest";
import { folder, passedBy, startConsole } from "./harness";

const c = startConsole("pages", "demo");
const dive = readFileSync("../internal/tests/testservice/dive.kam", "utf8");

// publish writes a contract into a file, and publishes it by the page's own button.
async function publish(text: string): Promise<void> {
  const file = join(folder(), "dive.kam");
  writeFileSync(file, text);
  await c.page.getByLabel("Files of a contract").setInputFiles(file);
}

const requested = () => c.page.getByRole("table", { name: "Time line" }).getByRole("row");

test("from the demo to four copies side by side it takes one press", async () => {
  await c.page.goto(c.address);
  await c.page.getByText("runs, with Ana and Bo").waitFor();
  expect(await c.violations()).toEqual([]);
  await c.page.getByRole("button", { name: "Compare 4 copies" }).click();
  await expect.poll(() => c.page.getByRole("columnheader").count()).toBe(7);
  for (const name of ["Ana", "Bo", "Cleo", "Dov"]) await c.shows("Dive.seed", name, / = as the server$/);
  await c.page.goto(c.address);
  await c.page.getByRole("heading", { name: "Sessions" }).waitFor();
  expect(await c.page.getByText("Compare 4 copies").count()).toBe(0); // it is not shown again
});

test("a flare's path is on the map as the server and every copy has it", async () => {
  await c.page.getByRole("link", { name: "Session 1" }).click();
  await c.page.getByRole("button", { name: "Ask as Cleo" }).click();
  await c.page.getByLabel("Request").selectOption("Diver.launch");
  await c.page.getByLabel("Filter the rows").fill("owner:cleo pos");
  const pos = /\((-?[\d.]+), (-?[\d.]+)\)/.exec(await c.cell("Cleo.Diver.pos", "server")) ?? [];
  await c.page.getByLabel("muzzle.x").fill(pos[1] ?? "");
  await c.page.getByLabel("muzzle.y").fill(pos[2] ?? "");
  await c.page.getByLabel("aim.x").fill("0");
  await c.page.getByLabel("aim.y").fill("1");
  await c.page.locator("form").getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => c.decision().innerText()).toMatch(/accepted/);
  await c.page.keyboard.press("2");
  await c.page.getByLabel("Whose copy is held against the server's").selectOption("-1");
  await c.page.getByRole("button", { name: "Stop here" }).click(); // a flare is soon gone
  const flares = c.page.getByLabel("Choose what has a place").locator("option", { hasText: "Flare" });
  for (let back = 0; (await flares.count()) === 0 && back < 200; back++) await c.page.keyboard.press("[");
  await c.page.getByLabel("Choose what has a place").selectOption({ label: await flares.first().innerText() });
  const where = c.page.getByRole("table", { name: /^Where .*Flare is$/ });
  await where.waitFor();
  const lines = (await where.innerText()).split("\n").map((l) => l.replace(/\s+/g, " ").trim());
  const moves = lines.filter((l) => / moves \(-?\d+(\.\d+)?, -?\d+(\.\d+)?\) a second/.test(l));
  expect(moves.map((l) => l.split(" (")[0])).toEqual(["server", "▲ Ana", "● Bo", "■ Cleo", "◆ Dov"]);
  expect(new Set(moves.map((l) => l.slice(l.indexOf("moves"))))).toHaveLength(1);
  await c.page.getByText("stopped at").waitFor();
  expect(await c.violations()).toEqual([]);
  await c.page.getByRole("button", { name: "Go on live" }).click();
  await c.page.keyboard.press("1");
});

test("traffic says what bytes were spent on, the costliest first", async () => {
  await c.page.getByRole("button", { name: /B\/s$/ }).click();
  const table = c.page.getByRole("table", { name: /What bytes were spent on/ });
  await table.getByText("heads of frames").waitFor();
  await table
    .getByText(/Diver\.pos$/)
    .first()
    .waitFor();
  const shares = async () =>
    (await table.getByRole("row").allInnerTexts()).slice(1).map((r) => Number(/([\d.]+)\t[\d.]+ %/.exec(r)?.[1]));
  await expect
    .poll(async () => {
      const all = await shares();
      return all.length > 5 && all.every((x, i) => i === 0 || x <= (all[i - 1] as number));
    })
    .toBe(true);
  await c.page.getByLabel(/^by/).selectOption("client");
  await table.getByText("Cleo").first().waitFor();
  expect(await c.violations()).toEqual([]);
});

test("the strip opens what explains it", async () => {
  await c.page.getByRole("button", { name: /^ticks take/ }).click();
  await c.page.getByText("inputs wait for the next tick").waitFor();
  await c.page.keyboard.press("Escape");
  await c.page.getByRole("button", { name: /^denied/ }).click();
  await c.page.getByRole("button", { name: "only denied" }).waitFor();
  await c.page.getByRole("button", { name: /failed inside/ }).click();
  await c.page.getByText("Nothing has failed inside.").waitFor();
  await c.page.getByRole("button", { name: /all in step|on the way|different/ }).click();
  expect(c.page.url()).toMatch(/only=differs/);
  await c.page.getByRole("button", { name: /all in step|on the way|different/ }).click();
});

test("a contract is published, opened, and an item used by one of three clients comes to all", async () => {
  await c.page.getByRole("link", { name: "Contracts" }).click();
  await publish(`${dive}\nwrong`);
  await c.page.getByText("nothing was published").waitFor();
  expect(await c.violations()).toEqual([]);
  await publish(dive.replace("contract tidewreck", "contract dive"));
  await c.page.getByRole("heading", { name: "dive" }).waitFor();
  await c.page.getByRole("textbox", { name: "Text of dive.kam" }).waitFor();
  await c.page.getByRole("button", { name: "Open session" }).click();
  await c.page.getByText("An exercise: what is done can become a drill").waitFor();
  expect(await c.violations()).toEqual([]);
  await c.page.getByRole("button", { name: "Open", exact: true }).click();
  await c.page.getByRole("button", { name: "Open test client" }).click();
  await c.page.getByLabel("Name").fill("Ana");
  await c.page.getByLabel("How many like this").fill("3");
  await c.page.getByRole("button", { name: "Open", exact: true }).click();
  await c.page.getByRole("heading", { name: "Ask as Ana" }).waitFor();
  await expect.poll(() => c.page.getByRole("columnheader").count()).toBe(6);

  const ask = async (request: string, item?: string) => {
    await c.page.getByLabel("Request").selectOption(request);
    if (item) await c.page.getByLabel("item").selectOption(item);
    await c.page.locator("form").getByRole("button", { name: "Ask", exact: true }).click();
    await expect.poll(() => c.decision().innerText()).toMatch(/accepted|denied/);
  };
  await ask("Diver.search");
  for (const name of ["Ana", "Cleo", "Dov"]) await c.shows("Ana.Diver.hull", name, /^93 = as the server$/);
  await ask("Diver.use", "patch");
  for (const name of ["Ana", "Cleo", "Dov"]) await c.shows("Ana.Diver.hull", name, /^100 = as the server$/);
  await c.shows("Ana.Diver.air", "Ana", "= as the server");
  for (const name of ["Cleo", "Dov"]) await c.shows("Ana.Diver.air", name, "– not for this client");
  const used = requested().filter({ hasText: "Diver.use(patch)" }).first();
  await expect.poll(() => used.innerText()).toMatch(/▲ \+[012] · ● \+[012] · ■ \+[012]/);
  // Which check denied it, with the values that it saw.
  await ask("Diver.use", "relic");
  const checks = c.page.getByRole("list", { name: "Checks" });
  await expect
    .poll(async () => (await checks.innerText()).replace(/\s+/g, " "))
    .toMatch(
      /passed Dive.phase == dive line \d+ Dive.phase dive ✕ failed satchel.has\(item\) line \d+ satchel .* item relic/,
    );
});

test("what was done is recorded as a drill, which passes, and fails once the contract is broken", async () => {
  await c.page.getByRole("tab", { name: /^Drill/ }).click();
  await c.page.getByRole("button", { name: "Expect cells that I press" }).click();
  expect(await c.violations()).toEqual([]);
  await c.page.getByRole("button", { name: "Expect what Cleo sees of Ana.Diver.hull" }).click();
  await c.page.getByText("expect cleo sees ana.Diver.hull == 100").waitFor();
  await c.page.getByRole("button", { name: "Expect what Dov sees of Ana.Diver.air" }).click();
  await c.page.getByText("expect dov does not see ana.Diver.air").waitFor();
  await c.page.getByRole("button", { name: "Stop expecting cells" }).click();
  await c.page.getByRole("button", { name: "Show the drill" }).click();
  await c.page.getByText("ana asks Diver.use(Item.patch) -> accepted").waitFor();
  await c.page.getByRole("button", { name: "Run it" }).click();
  await c.page.getByText("1 drill passed").waitFor();
  expect(await c.violations()).toEqual([]);
  const trial = c.page.url();

  await c.page.getByRole("link", { name: "Contracts" }).click();
  const broken = dive.replace("contract tidewreck", "contract dive").replace("patch_mends = 25", "patch_mends = 3");
  await publish(broken);
  await c.page.waitForURL(/version=2/);
  await c.page.goto(trial);
  await c.page.getByRole("button", { name: "Run again on version 2" }).click();
  await c.page.getByText("1 drill failed").waitFor();
  await c.page
    .getByRole("region", { name: "Why what I did failed" })
    .getByText("expect cleo sees ana.Diver.hull == 100", { exact: true })
    .waitFor();
  expect(await c.violations()).toEqual([]);
  await c.page.getByRole("link", { name: "Show it in the sheet at its tick" }).click();
  await c.page.getByText("stopped at").waitFor();
  await c.shows("ana.Diver.hull", "cleo", /^96 = as the server$/);
  await c.page.getByRole("complementary", { name: "ana.Diver" }).waitFor();
  expect(await c.violations()).toEqual([]);
  await c.page.getByRole("button", { name: /^Flow of Diver.use\(patch\)/ }).click();
  await c.page.getByRole("img", { name: /Server to ● cleo: ana.Diver.hull 93 → 96/ }).waitFor();
  await c.page.keyboard.press("2");
  await c.page
    .getByText(/1 square is|Nothing has a place/)
    .first()
    .waitFor();

  await c.page.getByRole("link", { name: "Drills and audit" }).click();
  await c.page.getByRole("main").getByRole("combobox").first().selectOption("dive");
  const over = c.page.getByRole("table", { name: "Drills over versions" });
  await expect.poll(() => over.innerText()).toMatch(/what I did\s+✕ failed\s+✓ passed/);
  expect(await c.violations()).toEqual([]);
  c.kamerad("audit", "--published", "dive", "--rounds", "2", "--ticks", "100");
  await c.page.reload();
  await c.page.getByRole("link", { name: /^audit/ }).click();
  await c.page.getByRole("heading", { name: "What was tried" }).waitFor();
  expect(await c.violations()).toEqual([]);
});

test("the shortest run that an audit found is played into the sheet, at the tick where it shows", async () => {
  const file = join(folder(), "yard.kam");
  writeFileSync(
    file,
    `contract yard language 1
seats 10
roles player
entity Diver per player {
  air:  int 0..100 = 100 clamped
  left: int 0..9 = 3
  request spend() limit 4 per second { left -= 1 }
  request share() limit 4 per second { air = 90 / left }
}`,
  );
  c.kamerad("contract", "publish", file);
  const started = await fetch(`${c.address}/api/contracts/yard/versions/1/trials`, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify({ what: "audit", seed: 4, rounds: 2, ticks: 200 }),
  });
  const { id } = (await started.json()) as { id: number };
  await c.page.goto(`${c.address}/trials/${id}`);
  const effects = c.page.getByRole("region", { name: "What attacks came to" });
  const effect = effects.getByRole("listitem").filter({ hasText: "division by zero" }).first();
  await effect.getByRole("link", { name: "Play it" }).click();
  await c.page
    .getByRole("status")
    .getByText(/division by zero.*It shows in tick \d+/)
    .waitFor();
  await c.page.locator("[data-row]").first().waitFor();
  await c.page.getByRole("table", { name: "Time line" }).getByText("faulted").first().waitFor();
  await c.page.getByRole("button", { name: "1 failed inside" }).waitFor();
  expect(await c.page.locator('[data-row$="left"] [data-column="server"]').allInnerTexts()).toContain("0");
  expect(await c.violations()).toEqual([]);
  await c.page.goto(`${c.address}/trials/${id}/play?effect=99`);
  await c.page.getByRole("alert").getByText(`audit ${id} has no run of an effect 99`).waitFor();
});

test("each tab of a contract's page says its part, in both themes", async () => {
  await c.page.goto(`${c.address}/contracts/tidewreck`);
  await c.page.getByText("The checker knows of no danger in this version.").waitFor();
  for (const scheme of ["light", "dark"] as const) {
    await c.page.emulateMedia({ colorScheme: scheme });
    for (const [tab, words] of [
      ["Text", "Findings"],
      ["Who may what", "Who sees what"],
      ["Cost", "one client gets"],
      ["Outline", "What clients are given"],
      ["Versions", "What differs from"],
    ] as const) {
      await c.page.getByRole("tab", { name: tab }).click();
      await c.page.getByText(words).first().waitFor();
      expect(await c.violations(), `${tab}, ${scheme}`).toEqual([]);
    }
  }
  await c.page.getByRole("tab", { name: "Who may what" }).click();
  await c.page.getByRole("button", { name: "Diver.air" }).first().click();
  await c.page.getByRole("textbox", { name: "Text of tidewreck.kam" }).waitFor();
  expect(c.page.url()).toMatch(/line=\d+/);
  for (const path of ["/", "/contracts", "/drills", "/settings", "/trials/1", "/nowhere"]) {
    await c.page.goto(c.address + path);
    await c.page.getByRole("heading").first().waitFor();
    expect(await c.violations(), `${path}, dark`).toEqual([]);
  }
  await c.page.getByRole("link", { name: "All sessions" }).click();
  await c.page.emulateMedia({ colorScheme: "light" });
});

test("the colours that are chosen stay chosen", async () => {
  await c.page.goto(`${c.address}/settings`);
  await c.page.getByLabel("Colours").selectOption("dark");
  const theme = () => c.page.evaluate(() => document.documentElement.dataset.theme);
  expect(await theme()).toBe("dark");
  await c.page.reload();
  expect(await theme()).toBe("dark");
  expect(await c.violations()).toEqual([]);
  await c.page.getByLabel("Motion").selectOption("reduced");
  expect(await c.page.evaluate(() => document.documentElement.dataset.motion)).toBe("reduced");
  await c.page.getByLabel("Colours").selectOption("system");
  expect(await theme()).toBe("light");
});

// tabTo presses Tab until what has the focus is called as wanted.
async function tabTo(name: string | RegExp): Promise<void> {
  for (let i = 0; i < 80; i++) {
    await c.page.keyboard.press("Tab");
    const words = await c.page.evaluate(() => {
      const e = document.activeElement as HTMLElement | null;
      return e?.getAttribute("aria-label") ?? e?.innerText ?? "";
    });
    if (typeof name === "string" ? words === name : name.test(words)) return;
  }
  throw new Error(`nothing that Tab comes to is called ${String(name)}`);
}

test("Tab comes to everything that can be pressed, and the focus is seen", async () => {
  const look = async (where: string) => expect(await passedBy(c.page), where).toEqual([]);
  for (const path of ["/", "/contracts", "/contracts/dive", "/drills", "/trials/1", "/settings", "/nowhere"]) {
    await c.page.goto(c.address + path);
    await c.page.getByRole("heading").first().waitFor();
    await c.page.waitForLoadState("networkidle"); // what is loaded when it is wanted is there
    if (path.startsWith("/contracts/")) await c.page.getByRole("textbox", { name: /^Text of/ }).waitFor();
    await look(path);
  }
  await c.page.goto(`${c.address}/sessions/1?find=hull`);
  await c.page.getByRole("button", { name: "Stop here" }).click(); // the sheet stays as it is meanwhile
  await look("a session");
  await c.page.getByRole("button", { name: "requests", exact: true }).click(); // of which there are many
  await c.page.getByRole("button", { name: "Ask as Cleo" }).click();
  await look("the drawer of who asks");
  await c.page.keyboard.press("Escape");
  for (const tab of ["Flow", "Traffic", "Drill", "Faults"]) {
    await c.page.getByRole("tab", { name: new RegExp(`^${tab}`) }).click();
    await look(tab);
  }
  await c.page.keyboard.press("2");
  await look("the map");
  await c.page.keyboard.press("n");
  await c.page.getByRole("dialog").waitFor();
  await look("the window for a test client");
});

test("a session is opened, played, compared and closed by keyboard alone", async () => {
  const { keyboard } = c.page;
  await c.page.goto(c.address);
  await c.page.getByRole("heading", { name: "Sessions" }).waitFor();
  await keyboard.press("Control+k");
  await keyboard.type("contract dive");
  await c.page.getByRole("option", { name: "Contract dive" }).waitFor();
  await keyboard.press("Enter");
  await c.page.getByRole("heading", { name: "dive" }).waitFor();
  await tabTo("Open session");
  await keyboard.press("Enter");
  await c.page.getByText("An exercise").waitFor();
  await tabTo("Open");
  await keyboard.press("Enter");
  await c.page.getByText("No client is here.").waitFor();
  await keyboard.press("n");
  await c.page.getByLabel("Name").waitFor();
  await c.page.waitForTimeout(100); // the window takes the focus
  await keyboard.press("Enter");
  await c.page.getByRole("heading", { name: /^Ask as / }).waitFor();
  await keyboard.press("n");
  await c.page.getByLabel("Name").waitFor();
  await c.page.waitForTimeout(100);
  await keyboard.press("Enter");
  await expect.poll(() => c.page.getByRole("columnheader").count()).toBe(5);
  await tabTo(/^Ask as Cleo$/);
  await keyboard.press("Enter");
  await tabTo("Ask"); // of what is done
  await tabTo("Ask"); // the form's own
  await keyboard.press("Enter");
  await expect.poll(() => c.decision().innerText()).toMatch(/accepted|denied/);
  await keyboard.press("Escape");
  await expect.poll(() => c.page.getByRole("heading", { name: /^Ask as / }).count()).toBe(0);
  await keyboard.press("/");
  await keyboard.type("hull");
  await expect.poll(() => c.page.locator("[data-row]").count()).toBe(2);
  await tabTo("hull");
  await keyboard.press("Enter");
  await c.page.getByRole("complementary", { name: /Diver$/ }).waitFor();
  await keyboard.press("Escape");
  await keyboard.press("2");
  await c.page.getByText("Nothing has a place").waitFor();
  await keyboard.press("1");
  await tabTo(/^Flow of /);
  await keyboard.press("Enter");
  await c.page.getByRole("img", { name: /to Server/ }).waitFor();
  await keyboard.press("Control+k");
  await keyboard.type("stop here");
  await keyboard.press("Enter");
  await c.page.getByText("stopped at").waitFor();
  await c.page.locator("body").press("[");
  await tabTo(/^Tick that is shown$/);
  await keyboard.press("ArrowLeft");
  await c.page.locator("body").press(" ");
  await expect.poll(() => c.page.getByText("stopped at").count()).toBe(0);
  await tabTo("Close session");
  await keyboard.press("Enter");
  await c.page.getByText("This session has closed").waitFor();
});

test("every call of the API can be read, and what it takes", async () => {
  await c.page.goto(`${c.address}/settings`);
  await c.page.getByRole("link", { name: "what there is to call" }).click();
  await c.page.getByLabel("Filter the calls").fill("had its value");
  await expect.poll(() => c.page.getByRole("navigation", { name: "Calls" }).getByRole("link").count()).toBe(1);
  await c.page.getByRole("link", { name: "/recordings/{id}/why" }).click();
  await c.page.getByText("Takes the right to run.").waitFor();
  await c.page.getByText("the property, such as Ana.Diver.hull").waitFor();
  const answer = c.page.getByRole("region", { name: "The answer" });
  expect(await answer.getByText("RecordReason").count()).toBe(1);
  await answer.locator("summary").first().click();
  await expect.poll(() => answer.locator("details[open] li").count()).toBeGreaterThan(0);
  expect(await c.violations()).toEqual([]);
});

test("a service that is gone is told, and the page goes on once it is back", async () => {
  await c.page.goto(`${c.address}/sessions/1`);
  await c.page.getByText("all in step").or(c.page.getByText("on the way")).first().waitFor();
  expect(c.errors.filter((e) => !/\b(404|409|422)\b/.test(e))).toEqual([]);
  await c.stop("SIGKILL");
  await c.page.getByText(/The service cannot be reached|trying again/).waitFor();
  expect(await c.violations()).toEqual([]);
  await c.start();
  await c.page.getByText("This session has closed").waitFor();
  await c.page.getByRole("link", { name: "Sessions", exact: true }).click(); // without a reload
  await c.page.getByRole("link", { name: "Session 1" }).waitFor();
});
