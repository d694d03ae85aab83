"""More to try on the orrery room: another instrument to put on the pedestal, and two plans.

The armillary is made in metres with Z up, as if it came from another program, so that `swap` has
something to correct.
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom

from grandlattice.demo import demo_materials
from grandlattice.demo.mesh_shapes import Mesh, cylinder, joined, lathe, rounded, sphere, torus
from grandlattice.demo.mesh_writing import write_mesh

_HEIGHT = 34.0  # of its centre over the pedestal, in centimetres


def write_more(folder: Path) -> None:
    """Write the armillary and the plans below a folder; plans that are there are left alone."""
    more = folder / "more"
    more.mkdir(parents=True, exist_ok=True)
    _write_armillary(more / "armillary.usda")
    for name, text in (("layers", LAYERS), ("day", DAY), ("sky", SKY), ("skies", SKIES)):
        file = more / f"{name}.lattice.yaml"
        if not file.exists():
            file.write_text(text, encoding="utf-8")


def _write_armillary(file: Path) -> None:
    file.unlink(missing_ok=True)
    stage = Usd.Stage.Open(Sdf.Layer.CreateNew(str(file)))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, "/Armillary").GetPrim())
    UsdGeom.Scope.Define(stage, "/Armillary/Looks")
    demo_materials.define(
        stage, "/Armillary/Looks/Steel", diffuseColor=(0.56, 0.57, 0.58), metallic=1.0, roughness=0.28
    )
    demo_materials.define(
        stage, "/Armillary/Looks/Globe", diffuseColor=(0.06, 0.16, 0.3), roughness=0.25, clearcoat=1.0
    )
    demo_materials.define(stage, "/Armillary/Looks/Wood", diffuseColor=(0.16, 0.07, 0.035), roughness=0.45)
    foot = lathe(
        rounded([(0.0, 0.0), (13.0, 0.0), (12.0, 2.2), (4.0, 4.0), (2.2, 9.0), (3.2, 13.0), (0.0, 14.0)], 0.8)
    )
    pole = _turned(cylinder(0.35, 46.0), 23.4, below=23.0)
    globe = _raised(sphere(6.0, 48))
    circles = [
        _turned(torus(radius, 0.55), tilt) for radius, tilt in ((17.0, 0.0), (18.2, 66.6), (17.6, -90.0))
    ]
    cradle = _turned(torus(20.0, 0.9), 90.0)
    for name, mesh, material in (
        ("Foot", foot, "Wood"), ("Globe", globe, "Globe"),
        ("Rings", joined([*circles, cradle, pole]), "Steel"),
    ):  # fmt: skip
        prim = write_mesh(stage, f"/Armillary/{name}", _metres_z_up(mesh), f"/Armillary/Looks/{material}")
        prim.CreateDisplayColorAttr([Gf.Vec3f(0.5)])
    stage.GetRootLayer().Save()


def _turned(mesh: Mesh, angle_deg: float, below: float = 0.0) -> Mesh:
    """A mesh about its own centre turned about Z and raised to the armillary's centre."""
    c, s = np.cos(np.radians(angle_deg)), np.sin(np.radians(angle_deg))
    x, y, z = (mesh.points - (0.0, below, 0.0)).T
    return _raised(replace(mesh, points=np.stack([c * x - s * y, s * x + c * y, z], axis=1)))


def _raised(mesh: Mesh) -> Mesh:
    return replace(mesh, points=mesh.points + (0.0, _HEIGHT, 0.0))


def _metres_z_up(mesh: Mesh) -> Mesh:
    x, y, z = mesh.points.T / 100.0
    return replace(mesh, points=np.stack([x, -z, y], axis=1))


LAYERS = """\
# Render layers: the same picture taken apart, and another instrument in its place.
lattice: 1
scene: ../orrery.usda

words: {client: harbour museum}      # a field of your own for file names

select:
  instrument: //Orrery

defaults:
  camera: /Room/Cameras/Portrait
  size: 576x720
  scale: 50%
  samples: 16
  clamp: 0.8
  bounces: 5
  denoise: true
  frames: 36
  format: [png, exr]
  exposure: -7.8
  output: "layers/{client}/{layer}.{frame:04d}.{ext}"

axes:
  layer:
    all:
    foreground:                      # the room held out of alpha; it still lights and reflects
      background: clear
      edits:
        - matte:
            on: /Room
            except: instrument
    no-dome:                         # gone for the camera only: it still reflects and shades
      edits:
        - unseen: [//Orrery/Dome/Glass, //Orrery/Dome/Knob]
    shadow:                          # the instrument's shadow alone, under a light of the plan's own
      background: clear
      edits:
        - light:
            kind: rect
            name: Key
            at: [-160, 190, 60]
            width: 30
            height: 30
            intensity: 300000
        - turn-to: {on: /Key, x: -23, y: -69}
        - hide: /Room/Lights
        - only: {on: [instrument, /Room/Pedestal]}
        - catch: /Room/Pedestal
        - unseen: instrument
    occlusion:                       # a layer that asks only for occlusion
      passes: [occlusion]
      format: exr
      denoise: false
    armillary:                       # another program's units and axis are corrected
      edits:
        - swap:
            on: /Room/Orrery
            with: armillary.usda
        - move:
            on: /Room/Orrery
            y: -8.6 cm
    turntable:                       # eight frames that loop, none of them twice
      frames: 1-8
      scale: 25%
      edits:
        - spin: instrument
        - hide: //Orrery/Dome

sets:
  tonight: [{layer: [all, foreground, shadow]}]
"""

DAY = """\
# A day in the orrery room: sweeps of hours, and of exposure.
lattice: 1
scene: ../orrery.usda

defaults:
  size: 640x360
  scale: 50%
  samples: 12
  clamp: 320 nits                    # not of what is shown: brightness would ask for traces of its own
  bounces: 5
  denoise: true
  frames: 36
  format: png
  output: "day/{camera}/{hour}.{brightness}.{frame:04d}.{ext}"

axes:
  hour:
    sweep: {from: "11:00", to: "21:00", step: 2h}
    edits:
      - sun:
          on: /Room/Lights/Sun
          latitude: 52.1
          longitude: 5.2
          zone: Europe/Amsterdam
          date: "2026-06-21"
          time: "{hour}"
  brightness:
    sweep: {from: -8.5, to: -6.5, step: 1}
    exposure: "{brightness}"
  camera:
    each: cameras
    among: /Room/Cameras/Wide /Room/Cameras/Portrait
    edits:
      - unseen: /Room/Lights/Window      # what is seen is the window itself
    with:
      Portrait: {size: 576x720}

order: [camera, hour, brightness]
run:
  wait: [camera]                     # one camera is finished before the next begins
"""

SKIES = """\
# Where the sun stands and how the lamp is lit: 36 skies, 4 moods and 3 exposures from 2 cameras.
#
# 864 pictures of 2 traces: the paths of a camera are followed once, and lit in 144 ways.
lattice: 1
scene: ../orrery.usda

defaults:
  size: 1280x720
  scale: 20%
  samples: 32
  bounces: 5
  denoise: true
  frames: 36
  format: png
  output: "skies/{camera}/{mood}/{turned}.{brightness}.{frame:04d}.{ext}"

axes:
  camera:
    each: cameras
    among: /Room/Cameras/Wide /Room/Cameras/Portrait
    with:
      Portrait: {size: 576x720}
  turned:
    sweep: {from: 0, to: 350, step: 10}
    edits:
      - hide:
          on: /Room/Lights
          except: [/Room/Lights/Sky, /Room/Lights/Lamp]
      - set:
          on: /Room/Lights/Sky
          texture: ../skies/clear.hdr
      - turn-to:
          on: /Room/Lights/Sky
          y: "{turned}"
  mood:
    unlit:
      edits:
        - hide: /Room/Lights/Lamp
    ember:
      edits:
        - set: {on: /Room/Lights/Lamp, intensity: 60000, colorTemperature: 1900}
    warm:
      edits:
        - set: {on: /Room/Lights/Lamp, intensity: 200000}
    bright:
      edits:
        - set: {on: /Room/Lights/Lamp, intensity: 600000, colorTemperature: 4000}
  brightness:
    sweep: {from: -9.6, to: -7.6, step: 1}
    exposure: "{brightness}"

order: [camera, mood, turned, brightness]
"""

SKY = """\
# The sky alone, a picture with its sun in it, turned: the sun goes round the room.
lattice: 1
scene: ../orrery.usda

defaults:
  camera: /Room/Cameras/Wide
  size: 1280x720
  scale: 25%
  samples: 16
  clamp: 0.8
  bounces: 5
  denoise: true
  frames: 36
  format: png
  exposure: -8.6
  output: "sky/{turned}.{frame:04d}.{ext}"

axes:
  turned:
    sweep: {from: 0, to: 270, step: 90}
    edits:
      - hide:
          on: /Room/Lights
          except: /Room/Lights/Sky
      - set:
          on: /Room/Lights/Sky
          texture: ../skies/clear.hdr
      - turn-to:
          on: /Room/Lights/Sky
          y: "{turned}"
"""
