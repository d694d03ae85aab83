// A grade, as values of a plan, and as uniforms of the program that OpenColorIO wrote for it.

/** @typedef {Record<string, number>} Grade */

export const GRADE_NAMES = [
  "exposure", "contrast", "saturation", "temperature", "tint", "shadows", "mid-tones", "highlights",
];
const NEUTRAL = /** @type {Grade} */ ({ contrast: 1, saturation: 1 });

/** @param {string} name */
export const neutral = (name) => NEUTRAL[name] ?? 0;

/** @param {Grade} grade */
export const isNeutral = (grade) => GRADE_NAMES.every((name) => (grade[name] ?? neutral(name)) === neutral(name));

/** Those values of a grade that change something. @param {Grade} grade @returns {Grade} */
export function said(grade) {
  return Object.fromEntries(Object.entries(grade).filter(([name, value]) => value !== neutral(name)));
}

/**
 * Values of uniforms; see images/grading.py for the operations.
 * @param {Grade} grade @returns {Record<string, number | number[] | boolean>}
 */
export function uniformsOf(grade) {
  const value = (/** @type {string} */ name) => grade[name] ?? neutral(name);
  const warm = value("temperature"), tint = value("tint");
  const stops = [warm / 2 + tint / 3, (-2 * tint) / 3, -warm / 2 + tint / 3];
  /** @type {Record<string, number | number[] | boolean>} */
  const told = {
    ocio_exposure_contrast_exposureVal: value("exposure"),
    ocio_exposure_contrast_contrastVal: value("contrast"),
    ocio_grading_primary_offset: [0, 0, 0],
    ocio_grading_primary_exposure: stops.map((each) => 2 ** each),
    ocio_grading_primary_contrast: [1, 1, 1],
    ocio_grading_primary_pivot: 0.18,
    ocio_grading_primary_clampBlack: -3e38,
    ocio_grading_primary_clampWhite: 3e38,
    ocio_grading_primary_saturation: value("saturation"),
    ocio_grading_primary_localBypass: stops.every((each) => each === 0) && value("saturation") === 1,
    ocio_grading_tone_sContrast: 1,
    ocio_grading_tone_localBypass: !(value("shadows") || value("mid-tones") || value("highlights")),
  };
  /** @type {[string, number, number, number][]} name, master, start, width */
  const tones = [
    ["blacks", 1, 0, 4], ["shadows", 1 + 0.8 * value("shadows"), 2, -7],
    ["midtones", 1 + 0.8 * value("mid-tones"), 0, 8], ["highlights", 1 + 0.8 * value("highlights"), -2, 9],
    ["whites", 1, 0, 8],
  ];
  for (const [name, master, start, width] of tones) {
    for (const channel of "RGB") told[`ocio_grading_tone_${name}${channel}`] = 1;
    told[`ocio_grading_tone_${name}M`] = master;
    told[`ocio_grading_tone_${name}Start`] = start;
    told[`ocio_grading_tone_${name}Width`] = width;
  }
  return told;
}
