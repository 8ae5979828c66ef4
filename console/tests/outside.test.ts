// Signs in to the console of a service on another machine, over TLS. The test of ./run demo --host runs this in a
// network of its own and says where the service is; without that there is nothing to run.

import { readFileSync } from "node:fs";
import { chromium } from "playwright-core";
import { expect, test } from "vitest";

const address = process.env.KAMERAD_OUTSIDE ?? "";

test.skipIf(!address)(
  "the console of a service elsewhere is signed in to over TLS",
  async () => {
    const browser = await chromium.launch({
      executablePath: "/usr/bin/chromium",
      args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking"],
    });
    try {
      const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, ignoreHTTPSErrors: true });
      const page = await context.newPage();
      await page.goto(`${address}/sessions/1`);
      await page.getByLabel("Token").fill(readFileSync(process.env.KAMERAD_TOKEN_FILE as string, "utf8").trim());
      await page.getByRole("button", { name: "Sign in" }).click();
      await page.getByRole("columnheader", { name: "Ana" }).waitFor({ timeout: 20_000 });
      const [cookie] = await context.cookies();
      expect(cookie).toMatchObject({ name: "kamerad_sign_in", httpOnly: true, secure: true, sameSite: "Strict" });
      expect(page.url()).not.toContain(cookie?.value);
    } finally {
      await browser.close();
    }
  },
  90_000,
);
