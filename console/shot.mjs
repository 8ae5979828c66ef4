// node shot.mjs OUT URL [script.js] — the script gets page
import { chromium } from "playwright-core";
import { readFileSync } from "node:fs";
const [out, url, script] = process.argv.slice(2);
const b = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox","--disable-gpu","--disable-quic","--no-first-run","--disable-background-networking","--disable-component-update","--disable-sync"] });
const ctx = await b.newContext({ viewport: { width: 1280, height: 800 }, colorScheme: process.env.DARK ? "dark" : "light" });
const page = await ctx.newPage();
page.on("console", (m) => { if (["error","warning"].includes(m.type())) console.log(m.type(), m.text()); });
page.on("pageerror", (e) => console.log("PAGEERROR", e.message));
await page.goto(url);
if (script) { const f = new Function("page", `return (async () => { ${readFileSync(script, "utf8")} })()`); await f(page); }
else await page.waitForTimeout(2500);
await page.screenshot({ path: out });
await b.close();
