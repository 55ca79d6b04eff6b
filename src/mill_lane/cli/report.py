"""`mill-lane report`: the printable page of a range that was rendered by command."""

from __future__ import annotations

import base64
import io
import statistics
from argparse import ArgumentParser
from pathlib import Path
from typing import Any

from mill_lane.cli.command import Arguments, Command, Result
from mill_lane.cli.record import Record, read_record
from mill_lane.core.errors import MillError

MOST_PICTURES = 24
SIDE = (240, 180)  # of a small picture, pixels


def add_arguments(sub: ArgumentParser) -> None:
    """Add the arguments of the command."""
    sub.add_argument("folder", type=Path, help="what was given to run with --out")
    sub.add_argument("--out", type=Path, help="an HTML file; its pictures are within it")


def run(args: Arguments) -> Result:
    """Write the page, or with --json alone print the figures."""
    record = read_record(args.folder)
    if args.out is not None:
        if args.out.suffix.lower() not in (".html", ".htm"):
            raise MillError(f"“{args.out.name}” is no HTML file.", "Call it report.html.")
        args.out.write_text(page(record, args.folder), encoding="utf-8")
    elif not args.json:
        for name, value in facts(record):
            print(f"{name:28} {value}")
    return record.model_dump(mode="json") | {"out": str(args.out) if args.out else None}


def facts(record: Record) -> list[tuple[str, str]]:
    """What is told of a range, a line each."""
    recipe, frames = record.recipe, record.frames
    taken = [row["whole_seconds"] for row in frames]
    out = [
        ("Scene", record.scene),
        ("SHA-256", record.hash),
        ("Triangles", f"{record.triangles:,}"),
        ("Textures", str(record.textures)),
        ("Frames", str(len(frames))),
        ("Size", f"{recipe['width']} × {recipe['height']}"),
        ("Samples, at most", str(recipe["samples"])),
        ("Bounces", str(recipe["bounces"])),
        ("Seed", str(recipe["seed"])),
        ("Rendered on", record.device["name"]),
        ("Loading", f"{record.load_seconds:.1f} s"),
        ("All frames", f"{record.seconds:.1f} s"),
        ("Memory, predicted", f"{record.predicted_bytes / 1e9:.2f} GB"),
        ("Memory, the most measured", f"{record.peak_bytes / 1e9:.2f} GB"),
    ]
    if taken:
        out.insert(-3, ("A frame, in the median", f"{statistics.median(taken):.1f} s"))
    return out


def page(record: Record, folder: Path) -> str:
    """The page as HTML, with small pictures of the frames within it."""
    from jinja2 import Environment

    text = Path(__file__).with_name("report.html").read_text(encoding="utf-8")
    told = [f"For want of memory, {words}." for words in record.fallbacks]
    told += [f"Frame {r['frame']}: {'; '.join(r['troubles'])}." for r in _marked(record)]
    shown = record.frames[:: max(1, -(-len(record.frames) // MOST_PICTURES))]
    pictures = [(row["frame"], small) for row in shown if (small := _small(row, folder))]
    return (
        Environment(autoescape=True)
        .from_string(text)
        .render(record=record, facts=facts(record), told=told, pictures=pictures)
    )


def _marked(record: Record) -> list[dict[str, Any]]:
    return [row for row in record.frames if row.get("troubles")]


def _small(row: dict[str, Any], folder: Path) -> str:
    """A small picture of a frame as a data address; empty where it has none that is there."""
    from PIL import Image

    for name in row.get("files", []):
        path = Path(name) if Path(name).exists() else folder / Path(name).name
        if path.suffix not in (".png", ".jpg") or not path.exists():
            continue
        with Image.open(path, formats=("PNG", "JPEG")) as found:
            small = found.convert("RGB")
        small.thumbnail(SIDE)
        kept = io.BytesIO()
        small.save(kept, "JPEG", quality=85)
        return "data:image/jpeg;base64," + base64.b64encode(kept.getvalue()).decode()
    return ""


REPORT = Command(
    "report", "Write the printable report of a range that was rendered.", add_arguments, run
)
