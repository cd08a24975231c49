import assert from "node:assert/strict";
import { test } from "node:test";
import { readingQuery } from "../../uchiwa/web/static/js/reading/address.js";
import { eventBeside, eventsOf } from "../../uchiwa/web/static/js/reading/events.js";
import { hitsText } from "../../uchiwa/web/static/js/reading/hits.js";
import { lowerBound, unpackStrips } from "../../uchiwa/web/static/js/reading/trace_data.js";
import { placedView, wholeOf, withinWhole } from "../../uchiwa/web/static/js/reading/view.js";

const log = (more) => ({
  id: 1,
  offset: 0,
  drives: [],
  findings: [],
  markers: [],
  notes: [],
  places: [],
  place: 0,
  ...more,
});

test("the first of an ascending list that is not below a value", () => {
  const list = Float32Array.from([1, 2, 2, 5]);
  assert.deepEqual(
    [0, 1, 2, 3, 9].map((value) => lowerBound(list, value)),
    [0, 0, 1, 3, 4],
  );
  assert.equal(lowerBound([], 3), 0);
});

test("what the server packs is unpacked", () => {
  const head = new TextEncoder().encode('{"traces":[{"points":2},{"points":1}]}'.padEnd(40));
  const buffer = new ArrayBuffer(4 + head.length + 24);
  new DataView(buffer).setUint32(0, head.length, true);
  new Uint8Array(buffer, 4).set(head);
  new Float32Array(buffer, 4 + head.length).set([0, 1, 10, 11, 5, 50]);
  const { traces } = unpackStrips(buffer);
  assert.deepEqual([...traces[0].x], [0, 1]);
  assert.deepEqual([...traces[0].y], [10, 11]);
  assert.deepEqual([...traces[1].y], [50]);
});

test("events of a log come in their order, on the common time", () => {
  const found = eventsOf(
    log({
      offset: 10,
      drives: [{ start: 30, end: 60, title: "pull", note: "" }],
      findings: [{ severity: "danger", words: "lean", rule: "lean", spans: [[12, 13]] }],
      markers: [20],
      notes: [{ id: 7, start: 15, end: 15, text: "here", author: "Orrell" }],
    }),
  );
  assert.deepEqual(
    found.map(({ start }) => start),
    [2, 5, 10, 20],
  );
  assert.equal(found[0].kind, "finding is-danger");
  assert.equal(eventBeside(found, 5, 1).words, "marker 1");
  assert.equal(eventBeside(found, 5, -1).words, "lean");
  assert.equal(eventBeside(found, 2, -1), undefined);
});

test("the whole of several logs, and of logs over engine speed", () => {
  const logs = [log({ start: 0, end: 20, offset: 5 }), log({ start: 0, end: 10 })];
  assert.deepEqual(wholeOf({ by: "time", logs }, null), { start: -5, end: 15 });
  const coarse = new Map([["a", { points: 3, x: [1310, 2000, 5990] }]]);
  assert.deepEqual(wholeOf({ by: "speed", logs }, { coarse }), { start: 1250, end: 6000 });
  assert.deepEqual(wholeOf({ by: "speed", logs }, { coarse: new Map() }), { start: 0, end: 7000 });
  assert.equal(withinWhole({ start: -5, end: 15 }, 99), 15);
});

test("logs laid by pull are seen around it, with some time on either side", () => {
  const all = { start: -100, end: 100 };
  const logs = [log({ places: [{ start: 50, end: 70 }] })];
  assert.deepEqual(placedView({ by: "pull", logs }, all), { start: -5, end: 25 });
  assert.equal(placedView({ by: "time", logs }, all), null);
  assert.equal(placedView({ by: "pull", logs: [log({})] }, all), null);
});

test("an address carries only what is set", () => {
  const plan = { by: "time", logs: [log({}), log({ id: 2 })] };
  assert.equal(
    String(readingQuery(plan, "a,b", { at: null, key: ["x", "y"], where: "" })),
    "log=1&log=2&show=a%2Cb&key=x&key=y",
  );
  assert.equal(
    String(readingQuery({ ...plan, by: "pull" }, "a")),
    "log=1&log=2&show=a&by=pull&place=1%3A0&place=2%3A0",
  );
});

test("hits", () => {
  assert.equal(hitsText({ count: 0 }, "next"), "never in this log");
  assert.equal(hitsText({ count: 3, number: 2, seconds: 1.25 }, "next"), "2 of 3, 1.3 s");
  assert.equal(hitsText({ count: 3, number: null, seconds: 1 }, "previous"), "none before, of 3, 1.0 s");
});
