// Drives the console of a service that wants to know who looks, in headless Chromium.

import { expect, test } from "vitest";
import { startConsole } from "./harness";

const c = startConsole("signin", "demo", "--tokens");

const signIn = async (token: string) => {
  await c.page.getByLabel("Token").fill(token);
  await c.page.getByRole("button", { name: "Sign in" }).click();
};

// The token of who may run makes the others, as the command line does.
let run = "";
const tokenFor = (name: string, right: string): string => {
  process.env.KAMERAD_TOKEN = run;
  return c.kamerad("token", "create", name, "--right", right).trim();
};

test("whoever is not known signs in by a token, and comes back to the page", async () => {
  run = c.kamerad("token", "create", "Cleo", "--right", "run", "--first").trim();
  const look = tokenFor("Eda", "look");
  await c.page.goto(`${c.address}/sessions/1`);
  await c.page.getByRole("heading", { name: "Sign in to Kamerad" }).waitFor();
  expect(await c.violations()).toEqual([]);
  await signIn("kamerad-somethingelse");
  await expect.poll(() => c.page.getByRole("alert").innerText()).toMatch(/none of this service/);
  await signIn(look);
  await c.shows("Dive.phase", "Ana", / = as the server$/);
  expect(await c.page.evaluate(() => document.cookie)).toBe("");
});

test("who may only look is offered nothing else, and sees nothing that no client may", async () => {
  expect(await c.page.getByRole("button", { name: "Open test client" }).count()).toBe(0);
  expect(await c.page.getByRole("button", { name: "Close session" }).count()).toBe(0);
  await c.page.getByLabel("Filter the rows").fill("owner:ana finds");
  expect(await c.page.locator('[data-row="Ana.Diver.finds"]').count()).toBe(0);
  await c.page.getByLabel("Filter the rows").fill("");
  await c.page.getByRole("tab", { name: "Operators" }).click();
  await c.page.getByRole("row", { name: /demo opened it/ }).waitFor();
  expect(await c.violations()).toEqual([]);
});

test("a token that is revoked signs its browsers out", async () => {
  const list = JSON.parse(c.kamerad("token", "list", "--json")) as { id: number; name: string }[];
  c.kamerad("token", "revoke", String(list.find((t) => t.name === "Eda")?.id));
  await c.page.getByRole("heading", { name: "Sign in to Kamerad" }).waitFor();
  await c.page.getByText("not signed in any more").waitFor();
  await signIn(run);
  await c.page.getByRole("button", { name: "Close session" }).waitFor();
  await c.page.getByLabel("Filter the rows").fill("owner:ana finds");
  await c.shows("Ana.Diver.finds", "server", /\d/);
  await c.page.goto(`${c.address}/settings`);
  await c.page.getByText("Signed in by the token Cleo").waitFor();
  await c.page.getByRole("button", { name: "Sign out" }).click();
  await c.page.getByRole("heading", { name: "Sign in to Kamerad" }).waitFor();
  c.errors.length = 0; // the browser tells of each 401
});
