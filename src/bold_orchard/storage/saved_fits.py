"""Saved fits: a name or a path -> the document, and back to a live fit on the same data."""

from __future__ import annotations

import base64
import gzip
import hashlib
import json
import os
import zlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from bold_orchard.data.evaluate import filter_rows
from bold_orchard.data.parts import digest, parts_of
from bold_orchard.data.pieces import Pieces, pieces_of
from bold_orchard.data.read import read_bytes, read_table
from bold_orchard.data.table import Table
from bold_orchard.design.build import build_design
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError, UsageError, nearest
from bold_orchard.estimation.estimate import hessian_of, reopen
from bold_orchard.families import family_of, names
from bold_orchard.inference.fit import Fit, Imputing, Settings, of_model
from bold_orchard.optimize.protocol import Ending, OptimizeResult
from bold_orchard.progress import silent
from bold_orchard.sentence.parse import read_sentence, used_columns
from bold_orchard.storage.files import write_safely
from bold_orchard.storage.save_path import ENDING, save_path
from bold_orchard.storage.shape import FIGURE, FIT, RESIDUAL, fault
from bold_orchard.wording import Wording, wording_of


def save_fit(fit: Fit, name: str, source: str, missing: list[str], where: str | None) -> Path:
    """Write ``NAME.fit.json``: the result and what later commands need to take it up again."""
    path = save_path(name)
    s, o = fit.settings, fit.settings.options
    table, hessian = fit.design.table, fit.model.found.hessian
    saved: dict[str, Any] = {
        "data": source if source == "-" else os.path.relpath(source, path.parent),
        "data_absolute": None if source == "-" else str(Path(source).resolve()),
        "fingerprint": _fingerprint(table.raw) if source == "-" else digest(source),
        "missing": missing,
        "where": where,
        "settings": {
            k: getattr(s, k) for k in ("method", "df", "confidence", "tolerance", "max_steps", "points", "errors")
        },
        "options": {
            "baselines": o.baselines,
            "fill_mean": list(o.fill_mean),
            "weights": o.weights,
            "family": o.family,
            "force": o.force,
            "link": o.link,
            "success": o.success,
            "grades": list(o.grades),
        },
        "hessian": hessian.tolist() if np.isfinite(hessian).all() else None,
        "theta": fit.evaluation.theta.tolist(),
        "memory": fit.design.memory,
        "pieces": fit.design.engine[0] != "memory",
        "orders": {c: list(o) for c, o in fit.design.orders.items()},
        "labels": {} if s.wording is None else s.wording.to_dict(),
    }
    if fit.imputations:
        from bold_orchard.imputing.kept import kept

        saved["imputation"] = kept(fit)
    if source == "-":
        saved["embedded"] = base64.b64encode(gzip.compress(table.raw or b"")).decode("ascii")
    document = json.dumps(fit.result.document | {"saved": saved}, indent=1, allow_nan=False)
    write_safely(path, lambda p: p.write_text(document + "\n", encoding="utf-8"))
    return path


def load_document(name: str) -> dict[str, Any]:
    """The JSON document of a saved fit, by name or path."""
    path = find_fit(name)
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError, MemoryError):
        raise OrchardError(f"{path} is not a saved fit; make one with: orchard fit DATA SENTENCE --save NAME") from None
    if not isinstance(document, dict) or "saved" not in document:
        raise OrchardError(f"{path} is not a saved fit; make one with: orchard fit DATA SENTENCE --save NAME")
    place = fault(document, FIT) or _odd_lengths(document)
    if place:
        raise OrchardError(f"{path} is damaged ('{place}' is missing or of the wrong kind); fit again")
    return document


def _odd_lengths(document: dict[str, Any]) -> str | None:
    """Lists of a saved fit that should be as long as others and are not."""
    for i, part in enumerate(document["random"]):
        k = len(part["terms"])
        square = [part["covariance"], part["correlation"]]
        if len(part["sd"]) != k or any(len(m) != k or any(len(row) != k for row in m) for m in square):
            return f"random[{i}]"
        if any(sd is None for t, sd in zip(part["terms"], part["sd"]) if t == "spread"):
            return f"random[{i}].sd"
    hessian, m = document["saved"]["hessian"] or [], len(document["saved"]["theta"])
    if hessian and (fault(hessian, [[FIGURE]]) or [len(row) for row in hessian] != [m] * m):
        return "saved.hessian"
    if len(document["mean_random_variance"]) != len(document["random"]):
        return "mean_random_variance"
    for i, row in enumerate(document["fixed"]):
        for key in ("ci", "ratio_ci"):
            ends = row.get(key)
            if ends is not None and (len(ends) != 2 or not all(isinstance(v, FIGURE) for v in ends)):
                return f"fixed[{i}].{key}"
        if row.get("ratio") is not None and row.get("ratio_ci") is None:
            return f"fixed[{i}].ratio_ci"
    residual = document["residual"]
    if document["family"] not in names():
        return "family"
    kind = family_of(document["family"], document["link"], "censored" in document["rows"])
    shape: dict[str, Any] = {o.name: FIGURE for o in kind.own}
    if kind.additive:
        shape = {
            "variance": FIGURE,
            "sd": FIGURE,
            "structure": str,
            "unit?": (str, type(None)),
            "levels?": int,
            "parameters": RESIDUAL,
        }
    found = None if residual is None else fault(residual, shape, "residual")
    if found or residual is None or "occasions" not in residual.get("parameters", {}):
        return found
    k, matrix = len(residual["parameters"]["occasions"]), residual["parameters"].get("covariance", [])
    return None if [len(row) for row in matrix] == [k] * k else "residual.parameters.covariance"


def find_fit(name: str) -> Path:
    for path in (Path(name), save_path(name)):
        if path.is_file():
            return path
    folder = Path(name).parent
    known = [p.name.removesuffix(ENDING) for p in folder.glob("*" + ENDING)] if folder.is_dir() else []
    near = nearest(Path(name).name, known)
    hint = f"did you mean '{near}'?" if near else "there is none here yet; make one with: orchard fit ... --save NAME"
    if not near and known:
        hint = "there are: " + ", ".join(sorted(known)[:8])
    raise OrchardError(f"there is no saved fit '{name}'; {hint}")


def open_fit(name: str) -> tuple[Fit, Table | None]:
    """A saved fit taken up again on its data, at its estimates, without searching anew; its rows, where they are held in memory."""
    document = load_document(name)
    saved = document["saved"]
    used = used_columns(read_sentence(document["model"]), saved["options"]["weights"], saved["where"])
    used = [*used, *(saved.get("imputation") or {}).get("beside", ())]
    table = None if saved.get("pieces") else _table(saved, find_fit(name), document["name"], used)
    try:
        if table is not None and saved.get("orders"):
            table = table.with_orders(saved["orders"])
        with np.errstate(all="ignore"):
            made = _taken_up(document, table, find_fit(name), used)
    except UsageError as e:
        raise OrchardError(f"{find_fit(name)} is damaged ({e}); fit again") from None
    except DAMAGE as e:
        if os.environ.get("ORCHARD_DEBUG") == "1":
            raise
        what = f"{type(e).__name__} {e}".strip()
        raise OrchardError(f"{find_fit(name)} is damaged and cannot be taken up again ({what}); fit again") from None
    before, found = document["fit"]["deviance"], made.result["fit"]["deviance"]
    if (before is None) != (found is None) or (before is not None and abs(before - found) > 1e-5 * (1.0 + abs(before))):
        raise OrchardError(f"{find_fit(name)} does not agree with its own data (its likelihood is another); fit again")
    return made, table


DAMAGE = (KeyError, TypeError, ValueError, IndexError, AttributeError, AssertionError, OverflowError, RecursionError,
          ZeroDivisionError, np.linalg.LinAlgError)  # fmt: skip


def _taken_up(document: dict[str, Any], table: Table | None, fit_path: Path, used: Sequence[str]) -> Fit:
    saved = document["saved"]
    o = saved["options"]
    options = Options(
        o["baselines"], tuple(o["fill_mean"]), o["weights"], o["family"], o["force"], o.get("link"), o.get("success"),
        tuple(o.get("grades", ())),
    )  # fmt: skip
    settings = Settings(options=options, **saved["settings"], impute=_imputing(saved), wording=_wording(saved))
    sentence = read_sentence(document["model"])
    if saved.get("imputation") is not None and table is not None:
        from bold_orchard.imputing.kept import taken_up

        return taken_up(document["name"], sentence, table, settings, saved["imputation"])
    if table is None:
        from bold_orchard.design.sweeps import design_of_pieces

        pieces = _pieces(saved, fit_path, document["name"], used)
        design = design_of_pieces(sentence, pieces, options, silent)
    else:
        design = build_design(sentence, table, options)
    c = document["convergence"]
    hessian = hessian_of(saved["hessian"], len(saved["theta"]))
    ended: OptimizeResult[Any] = OptimizeResult(
        None, c["converged"], 0.5 * (c["gradient"] or 0.0) ** 2, hessian, c["iterations"], c["evaluations"], Ending.WELL
    )
    theta, points = np.asarray(saved["theta"], dtype=float), int(document.get("points", 1))
    return of_model(document["name"], reopen(design, settings.search, theta, points, ended), settings)


def as_asked(name: str, with_data: bool = True) -> dict[str, Any]:
    """How a saved fit was asked for, by the names that ``fit`` takes: sentence, options, data (a path, None where it holds its own)."""
    document = load_document(name)
    saved = document["saved"]
    o, s = saved["options"], saved["settings"]
    held = "embedded" in saved or not with_data
    data = None if held else str(_data(saved, find_fit(name), document["name"]))
    return {
        "sentence": document["model"], "data": data, "missing": list(saved["missing"]), "where": saved["where"], "baseline": dict(o["baselines"]),
        "fill_mean": list(o["fill_mean"]), "grades": list(o.get("grades", ())),
        **{k: o.get(k) for k in ("weights", "family", "link", "success", "force")},
        **{k: s[k] for k in ("method", "df", "confidence", "tolerance", "max_steps", "points")}, "errors": s.get("errors"),
        "order": saved.get("orders") or {}, "labels": saved.get("labels") or None, **asked_of(_imputing(saved)),
    }  # fmt: skip


def _wording(saved: dict[str, Any]) -> Wording | None:
    made = saved.get("labels")
    return wording_of(made) if made else None


def asked_of(imputing: Imputing | None) -> dict[str, Any]:
    """How gaps are drawn, by the names that ``fit`` takes."""
    return (
        {}
        if imputing is None
        else {"impute": imputing.draws, "impute_with": list(imputing.beside), "seed": imputing.seed}
    )


def _imputing(saved: dict[str, Any]) -> Imputing | None:
    made = saved.get("imputation")
    return None if made is None else Imputing(made["draws"], tuple(made["beside"]), made["seed"])


def own_pieces(name: str, used: Sequence[str]) -> Pieces:
    """The pieces a saved fit was made from."""
    document = load_document(name)
    return _pieces(document["saved"], find_fit(name), document["name"], used)


def _pieces(saved: dict[str, Any], fit_path: Path, name: str, used: Sequence[str]) -> Pieces:
    return pieces_of(str(_place(saved, fit_path, name)), used, saved["missing"], saved["where"])


def _table(saved: dict[str, Any], fit_path: Path, name: str, used: Sequence[str]) -> Table:
    if "embedded" in saved:
        try:
            raw = gzip.decompress(base64.b64decode(saved["embedded"]))
        except (ValueError, TypeError, OSError, EOFError, zlib.error):
            raise OrchardError(f"{fit_path} is damaged (its data cannot be unpacked); fit again") from None
        table = read_bytes(raw, "standard input", saved["missing"])
        return filter_rows(table, saved["where"]) if saved["where"] else table
    table = read_table(_place(saved, fit_path, name), saved["missing"], None, used)
    table.data.fetch([c for c in used if table.has(c)])
    return filter_rows(table, saved["where"]) if saved["where"] else table


def _place(saved: dict[str, Any], fit_path: Path, name: str) -> Path:
    """Where the data of a saved fit lie, unchanged; raises OrchardError where they do not."""
    path = _data(saved, fit_path, name)
    if digest(path) != saved["fingerprint"]:
        raise OrchardError(f"{path.name} has changed since '{name}' was fitted; fit it again on the new data")
    return path


def _data(saved: dict[str, Any], fit_path: Path, name: str) -> Path:
    """Where the data of a saved fit lie; raises OrchardError where there are none."""
    if not isinstance(saved["data"], str) or not isinstance(saved["data_absolute"], str):
        raise OrchardError(f"{fit_path} is damaged (it names no data); fit again")
    places = [fit_path.parent / saved["data"], Path(saved["data_absolute"])]
    path = next((p for p in places if p.is_file() or _has_parts(p)), None)
    if path is None:
        raise OrchardError(
            f"the data of fit '{name}' are gone: there is no {saved['data']}; put the file back or fit again"
        )
    return path


def _has_parts(path: Path) -> bool:
    try:
        return parts_of(str(path)) is not None
    except OrchardError:
        return False


def _fingerprint(raw: bytes | None) -> str:
    return hashlib.sha256(raw or b"").hexdigest()
