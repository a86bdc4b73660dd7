import assert from "node:assert/strict";
import { test } from "node:test";
import { timeLeft } from "../../greyanchor/web/static/app/clock.js";
import { moved } from "../../greyanchor/web/static/app/curve-handles.js";
import { usualName } from "../../greyanchor/web/static/app/forms.js";
import { limitFrom, nearest } from "../../greyanchor/web/static/app/limits.js";
import { readout } from "../../greyanchor/web/static/app/plot.js";
import { meaningOf, typedWith } from "../../greyanchor/web/static/app/reading.js";
import { csvCell, csvOf, ordered, sortKey } from "../../greyanchor/web/static/app/table.js";

test("limits are set in steps of half a percent from 15 to 100", () => {
  assert.deepEqual([3, 80.3, 80.1, 140].map(limitFrom), [15, 80.5, 80, 100]);
});

test("the nearest line in reach is taken, and none that is far", () => {
  const limits = [
    ["C", 80],
    ["M", 83],
  ];
  assert.equal(nearest(limits, 82.5), "M");
  assert.equal(nearest(limits, 78), "C");
  assert.equal(nearest(limits, 60), null);
});

test("handles move by half a percent, or by five, and stay in range", () => {
  assert.equal(moved(50, "ArrowUp", false), 50.5);
  assert.equal(moved(50, "ArrowDown", true), 45);
  assert.equal(moved(99.9, "ArrowUp", true), 100);
  assert.equal(moved(50, "a", false), null);
});

test("numbers sort as numbers, with a real minus, and what is none comes first", () => {
  const rows = ["10.5", "−2.0", "–", "9"];
  const key = (text) => sortKey(text, "number");
  assert.deepEqual(ordered(rows, key, true), ["–", "−2.0", "9", "10.5"]);
  assert.deepEqual(ordered(rows, key, false), ["10.5", "9", "−2.0", "–"]);
  assert.equal(sortKey(" Kelp ", "text"), "kelp");
});

test("equal rows stay in their order", () => {
  const rows = [
    ["a", 1],
    ["b", 0],
    ["c", 1],
  ];
  assert.deepEqual(
    ordered(rows, (row) => row[1], true).map((row) => row[0]),
    ["b", "a", "c"],
  );
});

test("keys of the reading page are digits, buttons, or nothing", () => {
  assert.deepEqual(meaningOf("7"), { digit: "7" });
  assert.deepEqual(meaningOf(" "), { button: "read" });
  assert.deepEqual(meaningOf("W"), { button: "white" });
  assert.equal(meaningOf("x"), null);
  assert.equal(meaningOf("Tab"), null);
  assert.equal(typedWith("1234", "5"), "2345");
});

test("the clock counts minutes, and seconds in the last one", () => {
  assert.equal(timeLeft(12.2), "13 min");
  assert.equal(timeLeft(0.5), "30 s");
});

test("a mode is named after media, printer and passes", () => {
  assert.equal(
    usualName("Thrift Bond 90, bond", "Petrel 44, Quay Street", "16"),
    "Thrift Bond 90, Petrel 44, 16 pass",
  );
});

test("the readout names every curve with its value", () => {
  assert.equal(
    readout("input", [{ name: "C", x: [0, 100], y: [0, 50] }], 50),
    "input 50.0\nC           25.00",
  );
});

test("a table is saved as CSV with plain minus signs and nothing that a spreadsheet computes", () => {
  const rows = [
    ["Name", "Left"],
    ['Kelp, "fast"', "−1.72"],
    ["=SUM(A1)", "+3.00"],
    ["  two\n lines ", "–"],
  ];
  const text = 'Name,Left\r\n"Kelp, ""fast""",-1.72\r\n\'=SUM(A1),+3.00\r\ntwo lines,–\r\n';
  assert.equal(csvOf(rows), text);
  assert.equal(csvCell("@home"), "'@home");
  assert.equal(csvCell("-0.5"), "-0.5");
});
