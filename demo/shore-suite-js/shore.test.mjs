// Kelpline's main roads. From outside:
//   TESSELLANT_KEY=tsl_… SHORE_WHERE=serial=orr-01 node --test shore.test.mjs
// and as a package: tessellant package add shore-suite-js
import assert from "node:assert/strict";
import { after, before, describe, test } from "node:test";
import { open } from "./webdriver.mjs";

let phone;

before(async () => {
  phone = await open({
    platformName: "android",
    "tessellant:build": process.env.TESSELLANT_BUILD ?? "kelpline/android@newest",
    "tessellant:where": process.env.SHORE_WHERE ? [process.env.SHORE_WHERE] : [],
    "tessellant:group": "shore-suite-js",
    "tessellant:name": "all roads",
    timeouts: { implicit: 10_000 },
  });
});

after(() => phone?.close());

// Tests that begin with a fresh app, and say how they came out, under the names that a run lists them by.
const roads = (suite) => (name, walk) =>
  test(name, async () => {
    await phone.begin(`${suite} / ${name}`);
    try {
      await phone.fresh();
      await walk();
    } catch (err) {
      await phone.end("failed", err.message);
      throw err;
    }
    await phone.end("passed");
  });

// scrollTo swipes until something lies on the screen.
async function scrollTo(css) {
  for (let swipes = 0; swipes < 6 && !((await phone.all(css)) && (await phone.displayed(css))); swipes++) await phone.swipeUp();
  return css;
}

describe("shores", () => {
  const road = roads("shores");

  road("the search narrows the list", async () => {
    await phone.type("#search", "gull");
    assert.equal(await phone.text("#shore_gull-ledge_name"), "Gull Ledge");
  });

  road("the chart of the tides shows", async () => {
    await phone.tap("#shore_gull-ledge");
    await phone.tap("#show_chart");
    await phone.find("#tide_chart");
    await phone.step("tide chart");
  });
});

describe("survey", () => {
  const road = roads("survey");

  road("a survey can be sent", async () => {
    await phone.tap("#shore_gull-ledge");
    await phone.tap("#start");
    await phone.type("#barnacle", "31");
    await phone.tap(await scrollTo("#review"));
    await phone.find("#r_shore_detail");
    await phone.step("review");
    assert.ok(await phone.displayed("#send"), "Send lies on the screen");
    await phone.tap("#send");
    assert.match(await phone.text("#receipt"), /KL-/);
  });

  road("a draft survives going back", async () => {
    await phone.tap("#shore_gull-ledge");
    await phone.tap("#start");
    await phone.type("#wrack", "12");
    await phone.back();
    await phone.find("#show_chart");
    await phone.tap("#start");
    assert.equal(await phone.text("#wrack"), "12");
  });
});
