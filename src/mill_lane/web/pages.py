"""The pages: the list of jobs, the six stations of a job, and downloads."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from fastapi import APIRouter, HTTPException, Request
from fastapi.responses import FileResponse, RedirectResponse, Response
from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.devices.cpu import find_machine
from mill_lane.core.devices.memory_profile import MemoryProfile
from mill_lane.core.formats.opening import ENDINGS
from mill_lane.core.formats.units import NAMES as UNIT_NAMES
from mill_lane.core.recipe import EVERY_LAYER, Recipe
from mill_lane.core.render.slots import COMPONENTS
from mill_lane.core.trim.distance import by_distance, shrunk
from mill_lane.core.weigh.analysis import STAGES, Analysis
from mill_lane.core.weigh.ledger import draw_up, judge, texture_steps
from mill_lane.core.weigh.what_if import WhatIf, reckon
from mill_lane.store.models import (
    DeviceRow,
    Job,
    Run,
    SceneVersion,
    Staged,
    StoredFile,
    Task,
    Trial,
)
from mill_lane.web.context import (
    AHome,
    Db,
    analysis_of,
    device_of,
    devices,
    find_job,
    find_version,
    kept_trials,
    proposed,
    settings_of,
)
from mill_lane.web.events import stamp_of
from mill_lane.web.presenters import scene as scenes
from mill_lane.web.presenters import tables
from mill_lane.web.presenters import trials as books
from mill_lane.web.presenters.beam import beam
from mill_lane.web.presenters.lane import lane
from mill_lane.web.presenters.memory import asked_of, profile_sheet, what_if_sheet
from mill_lane.web.presenters.overlap import overlap_map
from mill_lane.web.presenters.plan import HEIGHT, SHADINGS, WIDTH, plan
from mill_lane.web.presenters.profile import DIVISIONS, component_name, layer_choices
from mill_lane.web.presenters.profile import panel as profile_panel
from mill_lane.web.presenters.recipes import first_fields, groups
from mill_lane.web.profiles import logged, profiles
from mill_lane.web.uploads import listed_scenes

router = APIRouter(include_in_schema=False)


def draw(request: Request, db: Session, template: str, **more: Any) -> Response:
    """Draw a page; what every page needs is added here."""
    waiting = db.scalars(
        select(Task).where(Task.state.in_(("queued", "running"))).order_by(Task.id)
    ).all()
    response: Response = request.app.state.templates.TemplateResponse(
        request, template, {"stamp": stamp_of(db), "waiting": waiting, **more}
    )
    return response


@router.get("/")
def home_page(request: Request, db: Db, removed: int | None = None) -> Response:
    jobs = []
    for job in db.scalars(select(Job).where(~Job.removed).order_by(Job.id)):
        task = db.scalars(
            select(Task)
            .where(Task.job_id == job.id, Task.kind.in_(("demo", "open")))
            .order_by(Task.id.desc())
        ).first()
        version = db.get(SceneVersion, job.version_id) if job.version_id else None
        jobs.append(
            {
                "job": job,
                "task": task,
                "version": version,
                "lane": lane(db, job, version) if version else None,
            }
        )
    prepare = db.scalars(
        select(Task).where(Task.kind == "prepare").order_by(Task.id.desc())
    ).first()
    gone = db.get(Job, removed) if removed else None
    return draw(
        request,
        db,
        "home.html",
        title="Jobs",
        endings=ENDINGS,
        jobs=jobs,
        prepare=prepare,
        scenes=listed_scenes(settings_of(request).scenes),
        folder=settings_of(request).scenes,
        gone=gone if gone is not None and gone.removed else None,
    )


@router.get("/jobs/{job}")
def job_page(db: Db, job: int) -> Response:
    return RedirectResponse(f"/jobs/{find_job(db, job).id}/scene")


def station(
    request: Request, db: Session, number: int, name: str, title: str
) -> dict[str, Any] | Response:
    """What every station's page starts from; while the scene is still being opened, a page that
    says so.
    """
    job = find_job(db, number)
    version = db.get(SceneVersion, job.version_id) if job.version_id else None
    if version is None:
        task = db.scalars(
            select(Task).where(Task.job_id == job.id).order_by(Task.id.desc())
        ).first()
        return draw(request, db, "opening.html", title=job.name, job=job, task=task)
    return {
        "title": f"{title} · {job.name}",
        "here": name,
        "job": job,
        "version": version,
        "analysis": analysis_of(version),
        "device": device_of(job.device),
        "lane": lane(db, job, version),
        "base": f"/jobs/{job.id}",
    }


@router.get("/jobs/{job}/scene")
def scene_page(
    request: Request,
    db: Db,
    job: int,
    tab: str = "meshes",
    sort: str = "",
    turned: bool = False,
    q: str = "",
    mesh: int | None = None,
    image: int | None = None,
    shade: str = "memory",
    frame: int | None = None,
) -> Response:
    c = station(request, db, job, "scene", "Scene")
    if isinstance(c, Response):
        return c
    i = c["analysis"]
    tab = tab if tab in tables.TABLES or tab == "transparency" else "meshes"
    if tab in tables.TABLES:
        sort = sort if any(x.key == sort for x in tables.TABLES[tab]) else tables.USUAL[tab]
    shade = shade if shade in SHADINGS else "memory"
    scale = c["job"].final["height"] / i.visibility.height if i.visibility else 1.0
    frame = min(max(frame if frame is not None else i.frames[0], i.frames[0]), i.frames[1])
    marked = {
        m.index for m in i.meshes if m.index == mesh or (image is not None and image in m.images)
    }
    weighing = db.scalars(
        select(Task).where(Task.job_id == job, Task.kind == "weigh").order_by(Task.id.desc())
    ).first()
    return draw(
        request,
        db,
        "scene.html",
        **c,
        tab=tab,
        sort=sort,
        turned=turned,
        q=q,
        mesh=mesh,
        image=image,
        shade=shade,
        headline=scenes.headline(i),
        findings=scenes.findings(i, scale),
        classes=tables.CLASSES,
        scale=scale,
        rows=tables.rows(i, tab, sort, turned, q) if tab in tables.TABLES else [],
        frame=frame,
        shadings=SHADINGS,
        units=UNIT_NAMES,
        plan=plan(i, marked, shade, scale, frame),
        plan_size=(WIDTH, HEIGHT),
        stages=STAGES,
        chosen=next((m for m in i.meshes if m.index == mesh), None),
        weighing=weighing
        if weighing is not None and weighing.payload.get("version") == c["version"].id
        else None,
    )


@router.get("/jobs/{job}/overlap.png")
def overlap_picture(db: Db, job: int) -> Response:
    """How many transparent layers lie one behind another, as a map of the frame that has most."""
    row = find_job(db, job)
    look = analysis_of(find_version(db, row)).visibility
    if look is None:
        raise HTTPException(404)
    return Response(overlap_map(look), media_type="image/png")


@router.get("/jobs/{job}/scene.csv")
def scene_csv(
    db: Db, job: int, tab: str = "meshes", sort: str = "", turned: bool = False, q: str = ""
) -> Response:
    """A table of the Scene page, as it is sorted and filtered there."""
    if tab not in tables.TABLES:
        raise HTTPException(404)
    row = find_job(db, job)
    found = tables.rows(analysis_of(find_version(db, row)), tab, sort, turned, q)
    stem = "".join(ch if ch.isalnum() or ch in "-_ " else "_" for ch in row.name).strip() or "scene"
    headers = {"Content-Disposition": f"attachment; filename*=utf-8''{quote(f'{stem} {tab}.csv')}"}
    return Response(
        tables.as_csv(tab, found), media_type="text/csv; charset=utf-8", headers=headers
    )


@router.get("/jobs/{job}/machine")
def machine_page(
    request: Request,
    db: Db,
    job: int,
    edit: int | None = None,
    removed: int | None = None,
    profile: int | None = None,
) -> Response:
    c = station(request, db, job, "machine", "Machine")
    if isinstance(c, Response):
        return c
    final = Recipe.model_validate(c["job"].final)
    rows: list[dict[str, Any]] = []
    for row in devices(db):
        d = device_of(row)
        verdict = judge(draw_up(c["analysis"], final, d), d.free_bytes)
        rows.append({"row": row, "device": d, "verdict": verdict})
    gone = db.get(DeviceRow, removed) if removed else None
    every = profiles(db)
    chosen = next((p for p in every if p.id == profile), None)
    return draw(
        request,
        db,
        "machine.html",
        **c,
        machine=find_machine(),
        rows=rows,
        edit=edit,
        profiles=every,
        most=max(r["device"].memory_bytes for r in rows),
        gone=gone if gone is not None and gone.removed else None,
        profile=profile_sheet(
            chosen.id, chosen.data, chosen.decided, [(t.id, x) for t, x in logged(chosen)]
        )
        if chosen
        else None,
    )


@router.get("/jobs/{job}/fit")
def fit_page(
    request: Request,
    db: Db,
    job: int,
    width: int | None = None,
    height: int | None = None,
    layers: str | None = None,
    flight: int | None = None,
    tile: int | None = None,
    lend: float = 0.0,
    denoise: bool = False,
    profile: int | None = None,
) -> Response:
    c = station(request, db, job, "fit", "Fit")
    if isinstance(c, Response):
        return c
    final = Recipe.model_validate(c["job"].final)
    every = profiles(db)
    row = next((p for p in every if p.id == profile), None)
    other = MemoryProfile.model_validate(row.data) if row else None
    asked = asked_of(width, height, layers, flight, tile, lend, denoise)
    ledger, device = reckon(c["analysis"], final, c["device"], asked, other)
    verdict = judge(ledger, device.free_bytes)
    others = []
    for d in (device_of(r) for r in devices(db) if r.id != c["job"].device_id):
        theirs, _ = reckon(c["analysis"], final, d, asked.model_copy(update={"lend": 0}), other)
        others.append(
            {
                "device": d,
                "beam": beam(theirs, d.free_bytes, 560),
                "verdict": judge(theirs, d.free_bytes),
            }
        )
    before, _ = reckon(c["analysis"], final, c["device"], WhatIf(), other)
    proposals = by_distance(c["analysis"])
    recipe = asked.recipe(final)
    return draw(
        request,
        db,
        "fit.html",
        **c,
        ledger=ledger,
        verdict=verdict,
        beam=beam(ledger, device.free_bytes),
        others=others,
        sheet=what_if_sheet(asked, final, c["device"], recipe),
        asked=asked,
        size=(recipe.width, recipe.height),
        change=ledger.total - before.total,
        profiles=every,
        profile=row,
        other=other,
        recipe=recipe,
        final=final,
        saves=sum(p.saves for p in proposals),
        proposals=proposals,
        biggest=sorted(ledger.steps, key=lambda s: -s.bytes)[:8],
        every_layer=EVERY_LAYER,
        in_flight=asked.in_flight(c["device"], recipe.width * recipe.height),
    )


@router.get("/jobs/{job}/trials")
def trials_page(
    request: Request,
    db: Db,
    job: int,
    a: int | None = None,
    b: int | None = None,
    region: str = "",
    removed: int | None = None,
    role: str = "draft",
    layer: str = "beauty",
    panel: str = "book",
    division: str = "kinds",
) -> Response:
    c = station(request, db, job, "trials", "Trials")
    if isinstance(c, Response):
        return c
    book = kept_trials(db, c["job"])
    by_number = {t.number: t for t in book}
    first, second = by_number.get(a or 0), by_number.get(b or 0)
    if first is None and second is None and book:
        second = book[0]
    under = next((t for t in book if t.picture and books.is_whole(t)), None)
    role = role if role in ("draft", "final") else "draft"
    recipe = Recipe.model_validate(getattr(c["job"], role))
    table = books.rows(book)
    fits = judge(draw_up(c["analysis"], recipe, c["device"]), c["device"].free_bytes).fits
    all_devices = [(r.id, device_of(r)) for r in devices(db)]
    cpu = next(r for r in devices(db) if r.found)
    gone = db.get(Trial, removed) if removed else None
    going = [t for t in book if t.task is not None and not t.task.over]
    rank = {"running": 0, "paused": 1, "queued": 2}
    running = min(
        going,
        key=lambda t: (rank.get(t.task.state, 3) if t.task else 3, t is not second, t.number),
        default=None,
    )
    profiled = second if second is not None and second.profile else first
    failed = next(
        (
            t
            for t in book[:1]
            if t.task is not None and t.task.state in ("failed", "cancelled") and not t.measured
        ),
        None,
    )
    return draw(
        request,
        db,
        "trials.html",
        **c,
        rows=table,
        a=books.shown(first, layer),
        b=books.shown(second, layer),
        under=under if layer == "beauty" else None,
        recipe=recipe,
        role=role,
        fields=first_fields(recipe),
        groups=groups(recipe, light_names(c["analysis"])),
        objects=sorted({f.name for f in c["analysis"].outlines}),
        components=[(k, component_name(k)) for k in COMPONENTS],
        previews=books.PREVIEWS,
        layer=layer,
        layers=layer_choices(*(t.layers for t in (first, second) if t is not None)),
        panel=panel,
        divisions=DIVISIONS,
        profile=profile_panel(profiled.profile, division, profiled.number) if profiled else None,
        region=_region(region, recipe),
        device_options=all_devices,
        use_device=c["job"].device_id if fits else cpu.id,
        fits=fits,
        live=books.shown(running),
        live_task=running.task if running else None,
        failed=failed,
        gone=gone if gone is not None and gone.removed else None,
        chart=books.chart(
            table, first.number if first else None, second.number if second else None
        ),
        frame=book[0].frame if book else c["analysis"].frames[0],
    )


def light_names(analysis: Analysis) -> list[str]:
    """Lamps that can be scaled by name, the sky among them."""
    return [x.name for x in analysis.lights] + (["sky"] if analysis.environment != "none" else [])


def _region(text: str, recipe: Recipe) -> list[int]:
    """The crop of the address, or the whole picture."""
    try:
        numbers = [int(float(x)) for x in text.split(",")]
    except ValueError:
        numbers = []
    return numbers if len(numbers) == 4 else [0, 0, recipe.width, recipe.height]


@router.get("/jobs/{job}/trim")
def trim_page(request: Request, db: Db, job: int, rule: str = "distance") -> Response:
    c = station(request, db, job, "trim", "Trim")
    if isinstance(c, Response):
        return c
    analysis: Analysis = c["analysis"]
    rule = rule if rule == "footprint" and analysis.visibility else "distance"
    proposals = proposed(rule, analysis, c["job"].final["height"])
    staged = {
        s.image: s.limit
        for s in db.scalars(select(Staged).where(Staged.version_id == c["version"].id))
    }
    sizes = {t.index: shrunk(t, staged[t.index])[1] for t in analysis.textures if t.index in staged}
    after = draw_up(
        analysis, Recipe.model_validate(c["job"].final), c["device"], texture_sizes=sizes
    )
    task = db.scalars(
        select(Task).where(Task.job_id == c["job"].id, Task.kind == "trim").order_by(Task.id.desc())
    ).first()
    exports = db.scalars(
        select(Task)
        .where(Task.job_id == c["job"].id, Task.kind == "export")
        .order_by(Task.id.desc())
        .limit(6)
    )
    held = sum(s.bytes for s in texture_steps(analysis))
    return draw(
        request,
        db,
        "trim.html",
        **c,
        proposals=proposals,
        staged=staged,
        after=judge(after, c["device"].free_bytes),
        rule=rule,
        saved=sum(t.memory_bytes - sizes[t.index] for t in analysis.textures if t.index in sizes),
        held=held,
        task=task if task is not None and task.state != "done" else None,
        versions=c["job"].versions,
        exports=list(exports),
        exact={p.image for p in proposals if staged.get(p.image) == max(p.new)},
    )


@router.get("/jobs/{job}/exports/{task}")
def download_export(db: Db, home: AHome, job: int, task: int) -> Response:
    """A scene that was written in another format."""
    row, found = find_job(db, job), db.get(Task, task)
    if (
        found is None
        or found.job_id != job
        or found.kind != "export"
        or "export" not in found.result
    ):
        raise HTTPException(404)
    stem = "".join(ch if ch.isalnum() or ch in "-_ " else "_" for ch in row.name).strip() or "scene"
    kind = {"zip": "application/zip", "usdz": "model/vnd.usdz+zip"}[found.payload["ending"]]
    name = f"{stem} v{found.payload['number']}.{found.payload['ending']}"
    return FileResponse(
        home.files.path(found.result["export"]["hash"]), media_type=kind, filename=name
    )


@router.get("/jobs/{job}/finish")
def finish_page(request: Request, db: Db, job: int, run: int | None = None) -> Response:
    c = station(request, db, job, "finish", "Finish")
    if isinstance(c, Response):
        return c
    runs = list(db.scalars(select(Run).where(Run.job_id == c["job"].id).order_by(Run.id.desc())))
    shown = next((r for r in runs if r.id == run), runs[0] if runs else None)
    final = Recipe.model_validate(c["job"].final)
    return draw(
        request,
        db,
        "finish.html",
        **c,
        runs=runs,
        shown=shown,
        recipe=final,
        checks=_checks(c),
        fields=first_fields(final),
        groups=groups(final, light_names(c["analysis"])),
        frame=shown.frame if shown else c["analysis"].frames[0],
    )


def _checks(c: dict[str, Any]) -> list[tuple[bool, str]]:
    """What to look at before the render starts: (in order, words)."""
    i, d, verdict = c["analysis"], c["device"], c["lane"].verdict
    out = [
        (
            verdict.fits,
            f"It fits {d.name}."
            if verdict.fits
            else f"It does not fit {d.name}. {verdict.sentence()}",
        )
    ]
    if d.kind == "cpu":
        out.append(
            (
                d.threads_free > 0,
                f"{d.threads_free} of {d.threads} threads kept free for other work.",
            )
        )
    missing = [t.name for t in i.textures if t.missing]
    out.append(
        (
            not missing,
            "No texture is missing." if not missing else f"{len(missing)} textures are missing.",
        )
    )
    out.append((i.camera != "Added camera", f"Camera “{i.camera}”."))
    out += [(False, text) for level, text in i.notes if level == "look"]
    return out


@router.get("/jobs/{job}/scene.glb")
def download_scene(db: Db, home: AHome, job: int, version: int | None = None) -> Response:
    """The scene version in use, or the numbered one, as GLB."""
    row = find_job(db, job)
    found = next(
        (v for v in row.versions if (v.number == version if version else v.id == row.version_id)),
        None,
    )
    if found is None:
        raise HTTPException(404)
    stem = "".join(ch if ch.isalnum() or ch in "-_ " else "_" for ch in row.name).strip() or "scene"
    return FileResponse(
        home.files.path(found.file_hash),
        media_type="model/gltf-binary",
        filename=f"{stem} v{found.number}.glb",
    )


@router.get("/files/{name}")
def stored_file(db: Db, home: AHome, name: str, save: str = "") -> Response:
    """A kept picture: /files/HASH.png or .exr."""
    digest, _, ending = name.partition(".")
    kinds = {"png": "image/png", "exr": "image/x-exr"}
    if ending not in kinds or len(digest) != 64 or db.get(StoredFile, digest) is None:
        raise HTTPException(404)
    headers = {"Cache-Control": "max-age=31536000, immutable"}
    stem = "".join(ch for ch in save if ch.isalnum() or ch in "-_ ")[:80]
    return FileResponse(
        home.files.path(digest),
        media_type=kinds[ending],
        headers=headers,
        filename=f"{stem}.{ending}" if stem else None,
    )
