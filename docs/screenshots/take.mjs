// The pictures of pages: node take.mjs ADDRESS SESSION FOLDER AUDIT
import { chromium } from "playwright-core";

const [address, session, folder, audit] = process.argv.slice(2);
const flags = "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync";
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: flags.split(" ") });
const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
const shot = (name) => page.screenshot({ path: `${folder}/${name}.png` });

await page.goto(`file://${audit}`);
await shot("audit-page");
await page.goto(address);
await page.getByRole("row").nth(1).waitFor();
await shot("sessions");
await page.goto(`${address}/sessions/${session}`);
await page.getByText(/all in step|on the way/).waitFor();
await page.getByRole("button", { name: "Open test client" }).click();
await page.getByLabel("Name").fill("Dov");
await page.getByRole("button", { name: "Open", exact: true }).click();
await page.getByRole("heading", { name: "Ask as Dov" }).waitFor();
await page.getByLabel("Request").selectOption("Diver.search");
await page.getByRole("button", { name: "Ask", exact: true }).click();
await page.getByText("100 → 93").waitFor();
await page.getByText(/all in step|on the way/).waitFor();
await shot("session");
await page.getByLabel("Request").selectOption("Diver.use");
await page.getByLabel("item").selectOption("relic");
await page.getByRole("button", { name: "Ask", exact: true }).click();
await page.getByLabel("Decision", { exact: true }).getByText("not carried").waitFor();
await page.emulateMedia({ colorScheme: "dark" });
await page.getByText(/all in step|on the way/).waitFor();
await shot("session-denied-dark");
await page.getByRole("button", { name: "Close Dov" }).click();
await page.getByRole("heading", { name: "Ask as Dov" }).waitFor({ state: "detached" });
await browser.close();
