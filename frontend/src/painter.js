// Pictures onto a canvas by the graphics processor: light through OpenColorIO's own program, all else by its look.

import { floatsOf } from "./decode.js";
import { uniformsOf } from "./grade.js";
import { LOOKS, MOTION, RAMP } from "./looks.js";

/** @typedef {import("./decode.js").Picture} Picture */
/** @typedef {{sampler: string, width: number, height: number, channels: number, nearest: boolean, values: string}} Table */
/** @typedef {{text: string, tables: Table[]}} Shader */
/** @typedef {{plain: Shader, graded: Shader, table: string}} Shaders */

/**
 * @typedef {object} Layer What is painted.
 * @property {Picture} picture
 * @property {string} look
 * @property {number} stops
 * @property {number} display
 * @property {import("./grade.js").Grade | null} grade
 * @property {[number, number][]} ranges
 * @property {Layer} [apart] of which the difference is shown
 */

/** @typedef {{x: number, y: number, w: number, h: number}} Box in pixels of the canvas, from the top left */

const CORNERS = `#version 300 es
uniform vec4 place; // left, top, right, bottom in clip space
out vec2 at;
void main() {
  vec2 corner = vec2(gl_VertexID & 1, gl_VertexID >> 1);
  at = corner;
  gl_Position = vec4(mix(place.xy, place.zw, corner), 0.0, 1.0);
}`;

const HEAD = `#version 300 es
precision highp float; precision highp int; precision highp sampler2D; precision highp usampler2D;
in vec2 at; out vec4 painted;
uniform sampler2D picture; uniform float stops; uniform vec3 clear;
`;

const LIGHT = `
void main() {
  vec4 seen = texture(picture, at);
  float alpha = clamp(seen.a, 0.0, 1.0);
  vec3 colour = seen.rgb / (alpha > 1e-4 ? alpha : 1.0) * exp2(stops);
  vec3 shown = clamp(shown_on_display(vec4(colour, 1.0)).rgb, 0.0, 1.0);
  painted = vec4(mix(clear, shown, alpha), 1.0);
}`;

const DATA = `
uniform int look; uniform vec2 ranges[3]; uniform sampler2D other; uniform int apart; uniform usampler2D ids;
uniform vec3 ramp[${RAMP.length}];
vec3 on_ramp(float place) {
  float k = clamp(place, 0.0, 1.0) * ${RAMP.length - 1}.0;
  int first = min(int(k), ${RAMP.length - 2});
  return mix(ramp[first], ramp[first + 1], k - float(first));
}
vec3 of_id(uint id) {
  return 0.2 + 0.8 * vec3(float(id & 255u), float((id >> 8) & 255u), float((id >> 16) & 255u)) / 255.0;
}
float scaled(float value, vec2 range) {
  if (isinf(value)) return 1.0;
  return (value - range.x) / max(range.y - range.x, 1e-12);
}
void main() {
  vec4 seen = texture(picture, at);
  vec3 shown = seen.rgb;
  if (apart == 1) {
    vec4 differs = abs(seen - texture(other, at));
    float most = max(max(differs.r, differs.g), differs.b);
    if (isnan(most) || isinf(most)) most = seen.r == texture(other, at).r ? 0.0 : ranges[0].y;
    shown = on_ramp(scaled(most, ranges[0]));
  } else if (look == ${LOOKS.colour}) {
    vec3 light = clamp(seen.rgb, 0.0, 1.0);
    shown = mix(12.92 * light, 1.055 * pow(light, vec3(1.0 / 2.4)) - 0.055, step(0.0031308, light));
  } else if (look == ${LOOKS.share}) shown = seen.g == 0.0 && seen.b == 0.0 ? vec3(seen.r) : seen.rgb;
  else if (look == ${LOOKS.direction}) shown = seen.rgb * 0.5 + 0.5;
  else if (look == ${LOOKS.distance}) shown = vec3(1.0 - scaled(seen.r, ranges[0]));
  else if (look == ${LOOKS.amount}) shown = vec3(scaled(seen.r, ranges[0]));
  else if (look == ${LOOKS.place}) shown = vec3(scaled(seen.r, ranges[0]), scaled(seen.g, ranges[1]), scaled(seen.b, ranges[2]));
  else if (look == ${LOOKS.coordinates}) shown = vec3(seen.rg, 0.0);
  else if (look == ${LOOKS.motion}) shown = vec3(seen.rg / ${2 * MOTION}.0 + 0.5, 0.0);
  else if (look == ${LOOKS.lux}) shown = on_ramp(log(max(seen.r, ranges[0].x) / ranges[0].x) / log(ranges[0].y / ranges[0].x));
  else if (look == ${LOOKS.ids}) {
    ivec2 size = textureSize(ids, 0);
    uvec4 found = texelFetch(ids, min(ivec2(at * vec2(size)), size - 1), 0);
    shown = (found.r == 0u ? vec3(0.0) : of_id(found.r) * uintBitsToFloat(found.g))
      + (found.b == 0u ? vec3(0.0) : of_id(found.b) * uintBitsToFloat(found.a));
  }
  painted = vec4(clamp(shown, 0.0, 1.0), 1.0);
}`;

export class Painter {
  /** @param {HTMLCanvasElement} canvas @param {Shaders[]} shaders of each display @param {number} room bytes of textures */
  constructor(canvas, shaders, room = 5e8) {
    const gl = canvas.getContext("webgl2", { alpha: false, antialias: false, preserveDrawingBuffer: true });
    if (!gl) throw new Error("no WebGL2");
    if (!gl.getExtension("OES_texture_float_linear")) throw new Error("no linear float textures");
    this.gl = gl;
    this.canvas = canvas;
    this.shaders = shaders;
    this.room = room;
    /** @type {Map<string, {program: WebGLProgram, tables: {sampler: string, texture: WebGLTexture}[]}>} */
    this.programs = new Map();
    /** @type {Map<Picture, {texture: WebGLTexture, bytes: number}>} */
    this.textures = new Map();
    this.held = 0;
    gl.pixelStorei(gl.UNPACK_ALIGNMENT, 1);
    gl.enable(gl.SCISSOR_TEST);
    this.blank = this.table({ sampler: "", width: 1, height: 1, channels: 1, nearest: true, values: btoa("\0\0\0\0") });
    this.noIds = this.textureOf({ w: 1, h: 1, c: 4, kind: "bits", data: new Uint32Array(4), stops: 0, names: {}, lens: null });
  }

  /** @param {string} name @param {() => {text: string, tables: Table[]}} made */
  program(name, made) {
    const known = this.programs.get(name);
    if (known) return known;
    const gl = this.gl, { text, tables } = made();
    const program = /** @type {WebGLProgram} */ (gl.createProgram());
    for (const [kind, source] of /** @type {[number, string][]} */ ([[gl.VERTEX_SHADER, CORNERS], [gl.FRAGMENT_SHADER, text]])) {
      const shader = /** @type {WebGLShader} */ (gl.createShader(kind));
      gl.shaderSource(shader, source);
      gl.compileShader(shader);
      gl.attachShader(program, shader);
    }
    gl.linkProgram(program);
    if (!gl.getProgramParameter(program, gl.LINK_STATUS)) {
      const shaders = gl.getAttachedShaders(program) ?? [];
      throw new Error(shaders.map((shader) => gl.getShaderInfoLog(shader)).join("\n") + gl.getProgramInfoLog(program));
    }
    const ready = { program, tables: tables.map((table) => ({ sampler: table.sampler, texture: this.table(table) })) };
    this.programs.set(name, ready);
    return ready;
  }

  /** @param {Table} table @returns {WebGLTexture} */
  table(table) {
    const gl = this.gl, letters = atob(table.values);
    const values = new Float32Array(Uint8Array.from(letters, (letter) => letter.charCodeAt(0)).buffer);
    const texture = /** @type {WebGLTexture} */ (gl.createTexture());
    gl.bindTexture(gl.TEXTURE_2D, texture);
    const [inside, format] = table.channels === 1 ? [gl.R32F, gl.RED] : [gl.RGB32F, gl.RGB];
    gl.texImage2D(gl.TEXTURE_2D, 0, inside, table.width, table.height, 0, format, gl.FLOAT, values);
    this.filtered(table.nearest ? gl.NEAREST : gl.LINEAR, table.nearest ? gl.NEAREST : gl.LINEAR);
    return texture;
  }

  /** @param {number} less when made smaller @param {number} more when made larger */
  filtered(less, more) {
    const gl = this.gl;
    gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MIN_FILTER, less);
    gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MAG_FILTER, more);
    gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_S, gl.CLAMP_TO_EDGE);
    gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE);
  }

  /** @param {Picture} picture @returns {WebGLTexture} */
  textureOf(picture) {
    const gl = this.gl, known = this.textures.get(picture);
    if (known) {
      this.textures.delete(picture);
      this.textures.set(picture, known); // the last used stand last
      return known.texture;
    }
    const texture = /** @type {WebGLTexture} */ (gl.createTexture());
    gl.bindTexture(gl.TEXTURE_2D, texture);
    const { w, h, c, kind, data } = picture;
    if (kind === "bits") {
      gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA32UI, w, h, 0, gl.RGBA_INTEGER, gl.UNSIGNED_INT, data);
      this.filtered(gl.NEAREST, gl.NEAREST);
    } else if (kind === "half" && c >= 3) {
      const [inside, format] = c === 4 ? [gl.RGBA16F, gl.RGBA] : [gl.RGB16F, gl.RGB];
      gl.texImage2D(gl.TEXTURE_2D, 0, inside, w, h, 0, format, gl.HALF_FLOAT, data);
      this.filtered(gl.LINEAR, gl.NEAREST);
    } else {
      const [inside, format] = [[gl.R32F, gl.RED], [gl.RG32F, gl.RG], [gl.RGB32F, gl.RGB], [gl.RGBA32F, gl.RGBA]][c - 1];
      gl.texImage2D(gl.TEXTURE_2D, 0, inside, w, h, 0, format, gl.FLOAT, floatsOf(picture));
      this.filtered(gl.LINEAR, gl.NEAREST);
    }
    const bytes = w * h * c * 4;
    this.textures.set(picture, { texture, bytes });
    this.held += bytes;
    for (const [old, { texture: gone, bytes: less }] of this.textures) {
      if (this.held <= this.room || old === picture) break;
      this.textures.delete(old);
      gl.deleteTexture(gone);
      this.held -= less;
    }
    return texture;
  }

  /** @param {[number, number, number]} grey 0..1 */
  wipe(grey) {
    const gl = this.gl;
    gl.scissor(0, 0, this.canvas.width, this.canvas.height);
    gl.clearColor(...grey, 1);
    gl.clear(gl.COLOR_BUFFER_BIT);
  }

  /** Paint a layer. @param {Layer} layer @param {Box} box where all of it would stand @param {Box} seen what of that is seen
   * @param {[number, number, number]} clear what shows behind what is clear */
  paint(layer, box, seen, clear) {
    const gl = this.gl, { width, height } = this.canvas;
    const isLight = layer.look === "light" && !layer.apart;
    const graded = isLight && layer.grade !== null;
    const name = isLight ? `${layer.display} ${graded}` : "data";
    const { program, tables } = this.program(name, () => {
      if (!isLight) return { text: HEAD + DATA, tables: [] };
      const shader = this.shaders[layer.display][graded ? "graded" : "plain"];
      return { text: HEAD + shader.text + LIGHT, tables: shader.tables };
    });
    gl.useProgram(program);
    gl.viewport(0, 0, width, height);
    gl.scissor(seen.x, height - seen.y - seen.h, seen.w, seen.h);
    const where = (/** @type {string} */ uniform) => gl.getUniformLocation(program, uniform);
    const across = (/** @type {number} */ x) => (2 * x) / width - 1, down = (/** @type {number} */ y) => 1 - (2 * y) / height;
    gl.uniform4f(where("place"), across(box.x), down(box.y), across(box.x + box.w), down(box.y + box.h));
    const ids = layer.look === "ids" && !layer.apart;
    const bound = [
      ["picture", ids ? this.blank : this.textureOf(layer.picture)], ...tables.map((table) => [table.sampler, table.texture]),
    ];
    if (!isLight) {
      bound.push(["other", layer.apart ? this.textureOf(layer.apart.picture) : this.blank]);
      bound.push(["ids", ids ? this.textureOf(layer.picture) : this.noIds]);
    }
    bound.forEach(([sampler, texture], unit) => {
      gl.activeTexture(gl.TEXTURE0 + unit);
      gl.bindTexture(gl.TEXTURE_2D, texture);
      gl.uniform1i(where(/** @type {string} */ (sampler)), unit);
    });
    gl.activeTexture(gl.TEXTURE0);
    gl.uniform1f(where("stops"), layer.stops);
    gl.uniform3f(where("clear"), ...clear);
    if (!isLight) {
      gl.uniform1i(where("look"), LOOKS[layer.look] ?? LOOKS.share);
      gl.uniform1i(where("apart"), layer.apart ? 1 : 0);
      const ranges = [0, 1, 2].flatMap((k) => layer.ranges[k] ?? layer.ranges[0]);
      gl.uniform2fv(where("ranges"), ranges);
      gl.uniform3fv(where("ramp"), RAMP.flat());
    }
    if (graded) {
      for (const [uniform, value] of Object.entries(uniformsOf(layer.grade ?? {}))) {
        const at = where(uniform);
        if (Array.isArray(value)) gl.uniform3f(at, value[0], value[1], value[2]);
        else if (typeof value === "boolean") gl.uniform1i(at, value ? 1 : 0);
        else gl.uniform1f(at, value);
      }
    }
    gl.drawArrays(gl.TRIANGLE_STRIP, 0, 4);
  }
}
