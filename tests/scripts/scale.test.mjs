import assert from "node:assert/strict";
import { test } from "node:test";
import { fromShare, toDrawing, valueAt, within } from "../../greyanchor/web/static/app/scale.js";

test("a series is read straight between its points and level beyond its ends", () => {
  assert.equal(valueAt([0, 10, 20], [0, 100, 50], 5), 50);
  assert.equal(valueAt([0, 10, 20], [0, 100, 50], 15), 75);
  assert.equal(valueAt([0, 10, 20], [0, 100, 50], -3), 0);
  assert.equal(valueAt([0, 10, 20], [0, 100, 50], 99), 50);
});

test("a series that falls reads like the same one turned round", () => {
  assert.equal(valueAt([20, 10, 0], [50, 100, 0], 15), valueAt([0, 10, 20], [0, 100, 50], 15));
});

test("two points at one place do not divide by nothing", () => {
  assert.equal(valueAt([0, 5, 5, 10], [0, 1, 2, 3], 5), 1);
});

test("drawing and value are inverse to one another", () => {
  const frame = { left: 40, top: 10, width: 200, height: 100, low: 0, high: 100 };
  for (const value of [0, 12.5, 50, 100]) {
    assert.ok(Math.abs(fromShare(frame, toDrawing(frame, value) / 300, 300) - value) < 1e-9);
  }
});

test("values are held within their limits", () => {
  assert.deepEqual([within(-1, 0, 100), within(50, 0, 100), within(101, 0, 100)], [0, 50, 100]);
});
