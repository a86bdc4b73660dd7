// Gamuts in space: L* upwards, a* and b* on the floor.
// WebGL where there is any, drawn as SVG where there is none.
import * as THREE from "../vendor/three/three.module.min.js";

const box = document.getElementById("solid");
const state = document.getElementById("solid-state");
const here = document.querySelector("script[data-orbit]").dataset.orbit;
const { OrbitControls } = await import(here);
const place = (l, a, b) => new THREE.Vector3(a, l - 50, -b);

function webgl() {
  try {
    const canvas = document.createElement("canvas");
    return !!(canvas.getContext("webgl2") || canvas.getContext("webgl"));
  } catch {
    return false;
  }
}

async function makeRenderer() {
  if (webgl() && !box.hasAttribute("data-plain")) {
    try {
      const made = new THREE.WebGLRenderer({ antialias: true, preserveDrawingBuffer: true });
      made.setPixelRatio(Math.min(2, window.devicePixelRatio));
      return [made, "drawn with WebGL"];
    } catch {
      /* the SVG way below needs no graphics card */
    }
  }
  const { SVGRenderer } = await import(here.replace("OrbitControls", "SVGRenderer"));
  const made = new SVGRenderer();
  made.setQuality("low");
  return [made, "drawn without a graphics card"];
}

const [renderer, way] = await makeRenderer();
const scene = new THREE.Scene();
scene.background = new THREE.Color(0x777777);
const camera = new THREE.PerspectiveCamera(36, 1, 1, 2000);
const controls = new OrbitControls(camera, box);
controls.enableDamping = false;
box.append(renderer.domElement);

function look(view) {
  camera.position.copy(view === "top" ? new THREE.Vector3(0, 330, 0.01) : new THREE.Vector3(150, 90, 215));
  controls.target.set(0, 0, 0);
  controls.update();
}

function fit() {
  const { width, height } = box.getBoundingClientRect();
  camera.aspect = width / height;
  camera.updateProjectionMatrix();
  renderer.setSize(width, height);
  draw();
}

let asked = false;
function draw() {
  if (asked) return;
  asked = true;
  requestAnimationFrame(() => {
    asked = false;
    renderer.render(scene, camera);
    const { x, y, z } = camera.position;
    box.dataset.eye = [x, y, z].map((v) => v.toFixed(1)).join(" ");
  });
}

function floor() {
  const lines = [];
  for (let v = -100; v <= 100; v += 50)
    lines.push(place(0, v, -100), place(0, v, 100), place(0, -100, v), place(0, 100, v));
  lines.push(place(0, 0, 0), place(100, 0, 0));
  const geometry = new THREE.BufferGeometry().setFromPoints(lines);
  return new THREE.LineSegments(geometry, new THREE.LineBasicMaterial({ color: 0xa0a0a0 }));
}

function solid(given, number) {
  const geometry = new THREE.BufferGeometry();
  const points = [];
  for (let i = 0; i < given.vertices.length; i += 3)
    points.push(...place(...given.vertices.slice(i, i + 3)).toArray());
  geometry.setAttribute("position", new THREE.Float32BufferAttribute(points, 3));
  const linear = [];
  for (let i = 0; i < given.colours.length; i += 3) {
    const colour = new THREE.Color().setRGB(...given.colours.slice(i, i + 3), THREE.SRGBColorSpace);
    linear.push(colour.r, colour.g, colour.b);
  }
  geometry.setAttribute("color", new THREE.Float32BufferAttribute(linear, 3));
  geometry.setIndex(given.faces);
  const net = number > 0;
  const material = net
    ? new THREE.MeshBasicMaterial({
        color: number === 1 ? 0x101010 : 0xf4f4f4,
        wireframe: true,
        transparent: true,
        opacity: 0.5,
      })
    : new THREE.MeshBasicMaterial({ vertexColors: true, side: THREE.DoubleSide });
  const mesh = new THREE.Mesh(geometry, material);
  if (!net) return mesh;
  // inside the solid a net shines through faintly, outside it stands out
  const faint = new THREE.Mesh(geometry, material.clone());
  faint.material.depthTest = false;
  faint.material.opacity = 0.14;
  const both = new THREE.Group();
  both.add(mesh, faint);
  return both;
}

function dots(given) {
  const group = new THREE.Group();
  if (!given.places) return group;
  const geometry = new THREE.BufferGeometry();
  const points = [],
    linear = [];
  for (let i = 0; i < given.places.length; i += 3) {
    points.push(...place(...given.places.slice(i, i + 3)).toArray());
    const colour = new THREE.Color().setRGB(...given.colours.slice(i, i + 3), THREE.SRGBColorSpace);
    linear.push(colour.r, colour.g, colour.b);
  }
  geometry.setAttribute("position", new THREE.Float32BufferAttribute(points, 3));
  geometry.setAttribute("color", new THREE.Float32BufferAttribute(linear, 3));
  group.add(new THREE.Points(geometry, new THREE.PointsMaterial({ size: 3.2, vertexColors: true })));
  return group;
}

let drawn = null;
async function load() {
  const patches = document.getElementById("patches").checked;
  const address =
    box.dataset.source +
    (box.dataset.source.includes("?") && !box.dataset.source.endsWith("?") ? "&" : "") +
    (patches ? "patches=1" : "");
  const answer = await fetch(address);
  if (!answer.ok) {
    state.textContent = "The gamuts could not be fetched; load the page again.";
    return;
  }
  const given = await answer.json();
  if (drawn) scene.remove(drawn);
  drawn = new THREE.Group();
  drawn.add(floor());
  given.solids.forEach((s, i) => {
    const mesh = solid(s, i);
    if (i === 0 && patches) {
      mesh.material.transparent = true;
      mesh.material.opacity = 0.35;
      mesh.material.depthWrite = false;
    }
    drawn.add(mesh);
  });
  drawn.add(dots(given.dots));
  scene.add(drawn);
  state.textContent = `${given.solids.map((s) => s.title).join("; ")} — ${way}`;
  box.dataset.solids = given.solids.length;
  box.dataset.dots = (given.dots.places || []).length / 3;
  draw();
}

function turn(dx, dy) {
  const arm = camera.position.clone().sub(controls.target);
  const round = new THREE.Spherical().setFromVector3(arm);
  round.theta += dx;
  round.phi = Math.min(Math.PI - 0.02, Math.max(0.02, round.phi + dy));
  camera.position.copy(controls.target).add(arm.setFromSpherical(round));
  controls.update();
}

function zoom(by) {
  const arm = camera.position.clone().sub(controls.target).multiplyScalar(by);
  if (arm.length() > 40 && arm.length() < 900) camera.position.copy(controls.target).add(arm);
  controls.update();
}

function shift(dx, dy) {
  const right = new THREE.Vector3().setFromMatrixColumn(camera.matrix, 0).multiplyScalar(dx);
  const up = new THREE.Vector3().setFromMatrixColumn(camera.matrix, 1).multiplyScalar(dy);
  for (const by of [right, up]) {
    camera.position.add(by);
    controls.target.add(by);
  }
  controls.update();
}

box.addEventListener("keydown", (e) => {
  const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[e.key];
  if (step && e.shiftKey) shift(8 * step[0], -8 * step[1]);
  else if (step) turn(0.12 * step[0], 0.12 * step[1]);
  else if (e.key === "+" || e.key === "=") zoom(0.9);
  else if (e.key === "-") zoom(1 / 0.9);
  else if (e.key === "0") look("front");
  else return;
  e.preventDefault();
});
for (const button of document.querySelectorAll("[data-view]")) {
  button.addEventListener("click", () => look(button.dataset.view));
}
document.getElementById("patches").addEventListener("change", load);
controls.addEventListener("change", draw);
window.addEventListener("resize", fit);
look("front");
fit();
load();
