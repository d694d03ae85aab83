"""A mesh of the demo as a USD prim."""

from __future__ import annotations

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade, Vt

from grandlattice.demo.mesh_shapes import Mesh, corner_normals


def write_mesh(stage: Usd.Stage, path: str, mesh: Mesh, material: str) -> UsdGeom.Mesh:
    """Define a mesh with smooth normals and texture coordinates, bound to a material."""
    prim = UsdGeom.Mesh.Define(stage, path)
    prim.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(mesh.points.astype(np.float32)))
    prim.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(mesh.counts.astype(np.int32)))
    prim.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(mesh.indices.astype(np.int32)))
    prim.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    prim.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(corner_normals(mesh).astype(np.float32)))
    prim.SetNormalsInterpolation(UsdGeom.Tokens.faceVarying)
    api = UsdGeom.PrimvarsAPI(prim)
    st = api.CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying)
    st.Set(Vt.Vec2fArray.FromNumpy(mesh.uvs.astype(np.float32)))
    low, high = mesh.points.min(0), mesh.points.max(0)
    prim.CreateExtentAttr([Gf.Vec3f(*low.tolist()), Gf.Vec3f(*high.tolist())])
    bound = UsdShade.Material(stage.GetPrimAtPath(material))
    UsdShade.MaterialBindingAPI.Apply(prim.GetPrim()).Bind(bound)
    return prim
