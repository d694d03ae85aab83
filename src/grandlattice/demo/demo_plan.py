"""The demo's plan, as an artist would have written it."""

from __future__ import annotations

PLAN = """\
# The orrery room: catalogue pictures of a clockwork model of the planets.
#
#   glat cells      every picture this plan makes
#   glat run        renders what is not rendered yet
#   glat review     the contact sheet
#
# For the large pictures set scale to 100% and quality to final, and run again.
lattice: 1
scene: orrery.usda

select:
  instrument: //Orrery
  glass: //Glass*

materials:
  clay: {color: [0.36, 0.345, 0.32], roughness: 0.9}

qualities:
  quick: {samples: 8, bounces: 5, clamp: 0.8, denoise: true}
  final: {samples: 512, denoise: true}

defaults:
  size: 1280x720
  scale: 20%
  frames: 36
  quality: quick
  passes: [beauty, depth, normal, occlusion, albedo]
  format: [exr, png]
  exposure: -7.8                  # by day; the scene's lights are in nits and lux
  output: "renders/{light}/{layer}/{camera}-{finish}.{frame:04d}.{ext}"

takes:
  lamplight:                      # the lamp is turned up, to 2100 lumens
    edits:
      - set:
          on: /Room/Lights/Lamp
          intensity: 60000
  night:
    use: [lamplight]
    edits:
      - set:
          on: /Room/Lights/Sky
          texture: skies/moon.hdr
          intensity: 143
      - hide: /Room/Lights/Sun

axes:
  light:
    noon:
    evening:
      use: [lamplight]
      exposure: -6.4
      edits:
        - set:
            on: /Room/Lights/Sky
            texture: skies/evening.hdr
            intensity: 143
        - turn-to:
            on: /Room/Lights/Sun
            x: -9
        - set:
            on: /Room/Lights/Sun
            colorTemperature: 2300
        - multiply:
            on: /Room/Lights/Sun
            intensity: 0.16
        - multiply:
            on: /Room/Lights/Window
            intensity: 0.107
            color: [1, 0.62, 0.40]
    moon:
      use: [night]
      exposure: -5
      edits:
        - multiply:
            on: /Room/Lights/Window
            intensity: 0.05
            color: [0.45, 0.62, 1]
  finish:
    brass:
    verdigris:
      edits:
        - choose:
            on: /Room/Orrery
            finish: verdigris
    clay:
      edits:
        - assign:
            material: clay
            on: instrument
            except: glass
  layer:
    all:
      edits:
        - unseen: /Room/Lights/Window   # it helps the sky in; what is seen is the window itself
    instrument:                   # alone, the room held out; it still lights and reflects
      background: clear
      edits:
        - only:
            on: instrument
            rest: matte
  camera:
    each: cameras
    with:
      Dial: {size: 900x900}
      Portrait: {size: 720x900}
      Above: {size: 960x720, skip: true}

rules:
  - drop: {finish: clay, light: [evening, moon]}
  - drop: {layer: instrument, light: [evening, moon]}
  - drop: {layer: instrument, camera: Dial}
  - at: {light: moon, camera: Dial}
    exposure: -3.8

order: [light, finish, layer, camera]    # slowest first

editions:                                # pictures for a purpose, from what is traced: glat edition
  web: {purpose: screen, format: jpg, label: true}
  thumbs: {scale: 50%, format: jpg}

boards:                                  # pictures on sheets: glat board
  wall:
    title: Three hours, three finishes
    captions: [coordinates, samples, noise]
  hours: {size: 1280x800, format: png, across: camera, down: [light, finish], at: layer=all, captions: size}
"""
