import assert from "node:assert/strict";
import test from "node:test";
import { enlargement } from "../../greyanchor/web/static/app/lettering.js";
import { faultOf, stepped } from "../../greyanchor/web/static/app/numbers.js";
import { nextPatch } from "../../greyanchor/web/static/app/patch-map.js";
import { parseNumber } from "../../greyanchor/web/static/app/scale.js";
import { fileName, kindOf, matches } from "../../greyanchor/web/static/app/table.js";

test("a decimal comma is a decimal point, and thousands are not guessed", () => {
  for (const text of ["45,5", "45.5", " 45,50 "]) assert.equal(parseNumber(text), 45.5);
  assert.equal(parseNumber("−0,125"), -0.125);
  for (const text of ["1,000", "12,500", "four", "", "1e3"]) assert.ok(Number.isNaN(parseNumber(text)), text);
});

test("what is wrong with a number is said while it is typed", () => {
  assert.equal(faultOf("45,5", 0, 100), "");
  assert.equal(faultOf("", 0, 100), "");
  assert.match(faultOf("1,000", 0, 5000), /thousands/);
  assert.match(faultOf("abc", 0, 100), /Write a number/);
  assert.equal(faultOf("120", 0, 100), "At most 100.");
  assert.equal(faultOf("-1", 0, 100), "At least 0.");
});

test("arrow keys go in steps on the grid and stay in range", () => {
  assert.equal(stepped(45.3, 0.5, true, 0, 100), 46);
  assert.equal(stepped(99.8, 0.5, true, 0, 100), 100);
  assert.equal(stepped(0.2, 0.5, false, 0, 100), 0);
});

test("a column of numbers sorts as numbers, any other by words", () => {
  assert.equal(kindOf(["1.5", "−2", "–", ""]), "number");
  assert.equal(kindOf(["72 %", "8 %"]), "number");
  assert.equal(kindOf(["8 passes", "12"]), "text");
  assert.equal(kindOf(["", "–"]), "text");
});

test("a filter wants every word, in any order", () => {
  assert.ok(matches("Harbour Proof Semimatt 235", "235 harb"));
  assert.ok(!matches("Harbour Proof Semimatt 235", "harbour gloss"));
  assert.ok(matches("anything", ""));
});

test("arrow keys go to the nearest patch that way, and stay at the edge", () => {
  const places = [
    [0, 0],
    [30, 0],
    [60, 0],
    [0, 30],
    [60, 30],
  ];
  assert.equal(nextPatch(places, 0, [1, 0]), 1);
  assert.equal(nextPatch(places, 0, [0, 1]), 3);
  assert.equal(nextPatch(places, 2, [1, 0]), 2);
  assert.equal(nextPatch(places, 3, [1, 0]), 4);
});

test("letters are enlarged where a picture is small, and never beyond twice", () => {
  assert.equal(enlargement(300, 600), 1);
  assert.equal(enlargement(560, 280), 2);
  assert.equal(enlargement(560, 100), 2);
  assert.equal(enlargement(560, 0), 1);
});

test("files are named by plain letters", () => {
  assert.equal(fileName("Tone value off the aim, %"), "tone-value-off-the-aim");
  assert.equal(fileName("%"), "table");
});
