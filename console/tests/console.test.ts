// Drives the console in headless Chromium against the real service on a database of its own.

import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, test } from "vitest";
import { folder, startConsole } from "./harness";

const c = startConsole("console", "serve");
const { kamerad, cell, shows, decision, openClient, violations } = c;

test("an empty service says what to do", async () => {
  await c.page.goto(c.address);
  await c.page.getByText("No session was opened yet.").waitFor();
  expect(await violations()).toEqual([]);
});

test("a session is opened, two test clients join, a legal and an illegal request are decided", async () => {
  kamerad("contract", "publish", "../internal/tests/testservice/dive.kam");
  await c.page.getByRole("button", { name: "Open session" }).click();
  await c.page.getByLabel("Contract").selectOption("tidewreck");
  await c.page.getByRole("button", { name: "Open", exact: true }).click();
  await c.page.getByRole("heading", { name: "Session 1" }).waitFor();
  await c.page.getByText("No client is here.").waitFor();
  await shows("Strongbox.answer", "server", /^"an echo"$/);

  await openClient("Ana");
  await openClient("Bo");
  await shows("Ana.Diver.hull", "Ana", "100 = as the server");
  await shows("Ana.Diver.hull", "Bo", "100 = as the server");
  await c.page.getByText("= all in step").waitFor();

  await c.page.getByRole("button", { name: "Ask as Ana" }).click();
  await c.page.getByLabel("Request").selectOption("Diver.search");
  await c.page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => decision().innerText()).toMatch(/accepted/);
  await shows("Ana.Diver.hull", "server", "93");
  await shows("Ana.Diver.hull", "Ana", "93 = as the server");
  await shows("Ana.Diver.hull", "Bo", "93 = as the server");
  await shows("Ana.Diver.air", "Ana", "95 = as the server");
  await shows("Ana.Diver.air", "Bo", "– not for this client");
  await shows("Ana.Diver.satchel", "Ana", "3 patch, 3 flare = as the server");
  await shows("Ana.Diver.satchel", "Bo", "– not for this client");
  await c.page.getByText("100 → 93").waitFor();

  const own = c.page.getByRole("table", { name: "Time line" }).getByRole("row").filter({ hasText: "Diver.search()" });
  await expect.poll(() => own.first().innerText()).toMatch(/▲ \+\d+ · ● \+\d+/);
  await c.page.getByRole("button", { name: /^Flow of Diver.search\(\) by Ana/ }).click();
  const flow = c.page.getByRole("img", { name: /▲ Ana to Server: Diver.search\(\)/ });
  await expect
    .poll(() => flow.getAttribute("aria-label"))
    .toMatch(/Server to ▲ Ana: accepted[\s\S]*Server to ● Bo: Ana.Diver.hull 100 → 93, tick \d+/);
  expect(await flow.getAttribute("aria-label")).not.toMatch(/● Bo: [^;]*satchel/);
  expect(await violations()).toEqual([]);
  await c.page.getByRole("tab", { name: "Time line" }).click();

  await c.page.getByLabel("Request").selectOption("Strongbox.guess");
  await c.page.getByLabel("words").fill("rust");
  await c.page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => decision().innerText()).toMatch(/accepted, replied false/);
  await c.page.getByLabel("Request").selectOption("Diver.use");
  await c.page.getByLabel("item").selectOption("relic");
  await c.page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => decision().innerText()).toMatch(/denied: not carried/);
  const checks = c.page.getByRole("list", { name: "Checks" });
  await expect.poll(() => checks.innerText()).toMatch(/failed[\s\S]*satchel\s+3 patch, 3 flare\s+item\s+relic/);
  const row = c.page
    .getByRole("table", { name: "Time line" })
    .getByRole("row")
    .filter({ hasText: "Diver.use" })
    .first();
  expect(await row.innerText()).toMatch(/Ana[\s\S]*Diver.use\(relic\)[\s\S]*denied: not carried/);
  await shows("Ana.Diver.satchel", "server", "3 patch, 3 flare");
  expect(await violations()).toEqual([]);
});

test("a forged request, and one on another's diver, change nothing", async () => {
  await c.page.getByRole("button", { name: "Ask as Bo" }).click();
  await c.page.getByLabel("Request").selectOption("Diver.use");
  await c.page.getByRole("combobox", { name: /^On/ }).selectOption({ label: "Ana.Diver" });
  await c.page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => decision().innerText()).toMatch(/denied: not the owner/);
  await c.page.getByRole("radio", { name: "Forge" }).click();
  await c.page.getByLabel("Values, as JSON").fill(`"pearl", 3`);
  await c.page.getByRole("button", { name: "Send forged" }).click();
  await expect.poll(() => decision().innerText()).toMatch(/malformed: Diver.use has 1 arguments, not 2/);
  await c.page.getByLabel("Values, as JSON").fill(`"pearl`);
  await c.page.getByRole("button", { name: "Send forged" }).click();
  await c.page.getByText("The values are no JSON").waitFor();
  const forge = async (words: string, told: RegExp) => {
    await c.page.getByRole("button", { name: words, exact: true }).click();
    await expect.poll(() => decision().innerText(), { message: words }).toMatch(told);
  };
  await forge("on another's", /denied: not the owner/);
  await forge("item a name that is none", /malformed: .*none of these/);
  await forge("on what is not there", /(denied|dropped|malformed): /);
  await forge("a value too few", /malformed: Diver.use has 1 arguments, not 0/);
  await forge("5 times at once", /dropped/);
  await c.page.getByLabel("Of those sent at once").waitFor();
  expect(await violations()).toEqual([]);
  await shows("Ana.Diver.satchel", "server", "3 patch, 3 flare");
  await c.page.getByRole("button", { name: "Close this drawer" }).click();
});

test("rows are filtered, pinned and folded, and the address keeps that", async () => {
  const rows = () => c.page.locator("[data-row]").count();
  const whole = await rows();
  await c.page.getByLabel("Filter the rows").fill("hull owner:ana");
  await expect.poll(rows).toBe(1);
  await c.page.getByLabel("Filter the rows").fill("kelp");
  await c.page.getByText("No row is as asked for.").waitFor();
  await c.page.getByRole("button", { name: "Show all" }).click();
  await expect.poll(rows).toBe(whole);
  await c.page.getByRole("button", { name: "Pin Ana.Diver.air" }).click();
  await expect.poll(() => c.page.locator("[data-row]").first().getAttribute("data-row")).toBe("Ana.Diver.air");
  await c.page.getByRole("button", { name: "Ana.Diver: fold the kind Diver" }).first().click();
  await c.page.getByText("2 folded").waitFor();
  expect(c.page.url()).toMatch(/folded=Diver/);
  await c.page.reload();
  await c.page.getByText("2 folded").waitFor();
  expect(await violations()).toEqual([]);
  await c.page.getByRole("button", { name: "pinned 1" }).click();
  await c.page.getByRole("button", { name: "folded 1" }).click();
  await expect.poll(rows).toBe(whole);
  await c.page.getByRole("button", { name: "changed in 5 s" }).click();
  await expect.poll(rows, { timeout: 8000 }).toBeLessThan(whole);
  await c.page.getByRole("button", { name: "changed in 5 s" }).click();
});

test("an entity is told whole: what each property is, who has it, and what changed it", async () => {
  await c.page.locator('[data-row="Ana.Diver.satchel"]').getByRole("button", { name: "satchel", exact: true }).click();
  const drawer = c.page.getByRole("complementary", { name: "Ana.Diver" });
  await drawer.getByText("Diver, one for each player").waitFor();
  const item = drawer.getByRole("listitem").filter({ hasText: "satchel" }).first();
  await expect
    .poll(() => item.innerText())
    .toMatch(/stacks, set by the server, to owner[\s\S]*Ana has it[\s\S]*\[0\]\s*3\s*patch[\s\S]*\[1\]\s*3\s*flare/);
  await item.getByRole("button", { name: "Why satchel?" }).click();
  await item.getByText("That came from outside: nothing in the session led to it.").waitFor();
  expect(await item.innerText()).toMatch(
    /Ana asked Diver\.search\(\)[\s\S]*✓ air >= 5 air was 100[\s\S]*Ana was sent it in tick \d+ and had it by \d+/,
  );
  expect(await violations()).toEqual([]);
  await item.getByRole("button", { name: "Close" }).click();
  await c.page.locator('[data-row="Ana.Diver.hull"]').getByRole("button", { name: "hull", exact: true }).click();
  await c.page.setViewportSize({ width: 1280, height: 600 });
  // The reader's place is kept while ticks go by.
  const place = await drawer.evaluate((d) => {
    d.scrollTo(0, d.scrollHeight);
    return d.scrollTop;
  });
  await c.page.waitForTimeout(400);
  expect(place).toBeGreaterThan(0);
  expect(await drawer.evaluate((d) => d.scrollTop)).toBe(place);
  await c.page.setViewportSize({ width: 1280, height: 800 });
  await c.page.reload(); // the address says what the drawer is about
  await drawer.getByText("owner Ana, known to everyone").waitFor();
  await c.page.getByRole("button", { name: "Close this drawer" }).click();
  await expect.poll(() => drawer.count()).toBe(0);
});

test("a client over a slow link is behind, and nobody else", async () => {
  await c.page.getByRole("button", { name: "Ask as Bo" }).click();
  await c.page.getByLabel("Over").selectOption("300 ms");
  await c.page.getByRole("button", { name: "Ask as Ana" }).click();
  await c.page.getByLabel("Request").selectOption("Diver.search");
  const before = await cell("Ana.Diver.hull", "server");
  await c.page.getByRole("button", { name: "Ask", exact: true }).click();
  await shows("Ana.Diver.hull", "Bo", new RegExp(`^${before} \\+[2-9] [2-9] ticks behind$`));
  expect(await cell("Ana.Diver.hull", "server")).not.toBe(before);
  await shows("Ana.Diver.hull", "Ana", "as the server");
  await shows("Ana.Diver.hull", "Bo", "as the server");
  await c.page.getByRole("button", { name: "Ask as Bo" }).click();
  await c.page.getByLabel("Over").selectOption("a good link");
  await c.page.getByRole("button", { name: "Close this drawer" }).click();
});

test("a client that joins from elsewhere appears and leaves; a referee ends the dive", async () => {
  await openClient("Dov", "referee");
  await c.page.getByLabel("Request").selectOption("Dive.end_dive");
  await c.page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => decision().innerText()).toMatch(/accepted/);
  await shows("Dive.phase", "Bo", "tally = as the server");
  await c.page.getByRole("table", { name: "Time line" }).getByText("Dive.turned").waitFor();
  await c.page.getByRole("tab", { name: "Time line" }).click();

  expect(() => kamerad("ask", "1", "search", "--as", "Cleo")).toThrow(/not in the water|Command failed/);
  await c.page.getByRole("table", { name: "Time line" }).getByText("denied: not in the water").waitFor();
  await c.page.getByRole("button", { name: "Close Dov" }).click();
  await expect.poll(() => c.page.getByRole("columnheader").allInnerTexts()).toHaveLength(5);
});

test("dark and narrow views hold up, and a closed session keeps its decisions", async () => {
  await c.page.emulateMedia({ colorScheme: "dark" });
  await c.page.setViewportSize({ width: 1024, height: 700 });
  expect(await violations()).toEqual([]);
  expect(await c.page.evaluate(() => document.documentElement.scrollWidth <= window.innerWidth)).toBe(true);
  await c.page.setViewportSize({ width: 1280, height: 800 });
  await c.page.emulateMedia({ colorScheme: "light" });
  await c.page.getByRole("button", { name: "Close session" }).click();
  await c.page.getByText("This session has closed: closed from the console.").waitFor();
  await c.page.getByRole("table", { name: "Time line" }).getByText("denied: not in the water").waitFor();
  expect(await violations()).toEqual([]);
  // What was is looked at as it was: on the server and each client, at any tick, with the reason of each value.
  await c.page.getByRole("link", { name: "Look at its recording" }).click();
  await c.page.getByRole("heading", { name: "Recording" }).waitFor();
  await c.page.getByRole("spinbutton", { name: "up to tick" }).fill("60");
  await c.page.getByRole("button", { name: "Go there" }).click();
  await expect.poll(() => c.page.getByRole("status").first().innerText()).toMatch(/Ticks 1 to 60 of \d+/);
  expect(await violations()).toEqual([]);
  // It is played at its pace, and stepped by hand.
  const moment = c.page.getByRole("group", { name: "The moment that is shown" });
  const tick = async () => Number(/tick (\d+)/.exec(await moment.innerText())?.[1]);
  await moment.getByRole("button", { name: "Play" }).click();
  await expect.poll(tick).toBeLessThan(50); // at the end it begins anew
  const begun = await tick();
  await expect.poll(tick).toBeGreaterThan(begun);
  await moment.getByRole("button", { name: "Stop here" }).click();
  const stopped = await tick();
  await c.page.keyboard.press("[");
  expect(await tick()).toBe(stopped - 1);
  expect(await c.page.getByText("Reading the session").count()).toBe(0);
  await c.page.goto(`${c.address}/sessions/77`);
  await c.page.getByText("there is no session 77; none is open").waitFor();
  expect(c.errors.filter((e) => !/\b(404|409)\b/.test(e))).toEqual([]);
});

test("what fails inside is counted and told", async () => {
  const file = join(folder(), "kiln.kam");
  writeFileSync(
    file,
    "contract kiln language 1\nshared Oven {\n  heat: int 0..9 = 0\n  glow: int 0..9 = 0\n" +
      "  every 100ms { glow = 9 / heat }\n  every 9s { heat = 1 }\n}\n",
  );
  kamerad("contract", "publish", file);
  const opened = JSON.parse(kamerad("session", "open", "kiln", "--json")) as { id: number };
  await c.page.goto(`${c.address}/sessions/${opened.id}`);
  await c.page.getByRole("tab", { name: /Faults \d+/ }).click();
  const row = c.page.getByRole("table", { name: "Faults" }).getByRole("row").first();
  await expect
    .poll(() => row.innerText())
    .toMatch(
      /timer of Oven ×\d+[\s\S]*division by zero[\s\S]*Oven\[1\] with heat = 0, glow = 0[\s\S]*line 5 of kiln.kam/,
    );
  expect(await violations()).toEqual([]);
  await c.page.goto(c.address);
  await c.page.getByText(/failed inside \d+ times/).waitFor();
  expect(await violations()).toEqual([]);
});

test("the map shows what has a place, and what is chosen there is chosen in the sheet", async () => {
  const file = join(folder(), "reef.kam");
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
  await c.page.goto(`${c.address}/sessions/${opened.id}`);
  await openClient("Ana");
  await c.page.getByRole("button", { name: "Close this drawer" }).click();
  await c.page.getByRole("button", { name: "Open test client" }).click();
  await c.page.getByLabel("Name").fill("Bo");
  await c.page.getByLabel("How many like this").fill("3");
  await c.page.getByRole("button", { name: "Open", exact: true }).click();
  await c.page.getByRole("heading", { name: "Ask as Bo" }).waitFor();
  await expect.poll(() => c.page.getByRole("columnheader").count()).toBe(7);
  await c.page.getByLabel("at.x").fill("2.5");
  await c.page.getByLabel("whom").selectOption("Ana.Diver");
  await c.page.getByRole("button", { name: "Add to all" }).click();
  await c.page.getByRole("textbox", { name: /^all\[0\]/ }).fill("7");
  await c.page.getByRole("button", { name: "Ask", exact: true }).click();
  await expect.poll(() => decision().innerText()).toMatch(/accepted, replied 7/);
  await c.page.getByText(/Diver.note\(\d+, \{"at":\[2.5,0\],"all":\[7\]\}\)/).waitFor();
  expect(await violations()).toEqual([]);
  await c.page.getByRole("button", { name: "Close this drawer" }).click();
  await c.page.keyboard.press("2");
  await c.page.getByText("1 square is").waitFor();
  await c.page
    .getByLabel("Whose copy is held against the server's")
    .selectOption({ label: "as Bo sees it, against the server" });
  await c.page.getByText("all where the server has them").waitFor();
  await c.page.getByLabel("Choose what has a place").selectOption({ label: "Ana.Diver" });
  await c.page.getByRole("complementary", { name: "Ana.Diver" }).waitFor();
  await c.page.getByRole("button", { name: "follow" }).click();
  await c.page.getByRole("button", { name: "Zoom in" }).click();
  await c.page.keyboard.press("ArrowLeft");
  expect(await c.page.getByRole("button", { name: "follow" }).getAttribute("aria-pressed")).toBe("false");
  expect(await violations()).toEqual([]);
  expect(c.page.url()).toMatch(/face=map/);
  await c.page.keyboard.press("1");
  await c.page.locator('[data-row="Ana.Diver.pos"]').waitFor();
  await shows("Eel.pos", "Bo", /^\([\d.]+, 0\) = as the server$/);
});
