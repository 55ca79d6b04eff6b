"""One table of renders, named recipes, a trim list for any trim, changes of one shape, typed tasks.

Everything that was there stays: trials keep their numbers and ids, runs keep their number in
addresses, a paused render goes on from its state under the key that it was saved with.
"""

import json
from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    _recipes()
    _versions()
    _trim_list()
    _tables_of_renders()
    old_tasks = _trials_and_runs()
    for name in ("trials", "runs", "staged"):
        op.drop_table(name)
    _tasks(old_tasks)
    op.create_index("tasks_by_job", "tasks", ["job_id", "id"])


def downgrade() -> None:
    raise NotImplementedError("the way back is the copy that was made of the database before")


def rows(query: str, **values: Any) -> list[dict[str, Any]]:
    found = op.get_bind().execute(sa.text(query), values).mappings()
    return [dict(r) for r in found]


def run(query: str, **values: Any) -> None:
    op.get_bind().execute(sa.text(query), values)


def loaded(text: Any, otherwise: Any = None) -> Any:
    return json.loads(text) if isinstance(text, str) and text else otherwise


def _recipes() -> None:
    op.create_table(
        "recipes",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("job_id", sa.Integer(), sa.ForeignKey("jobs.id"), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("chosen", sa.String(), nullable=True),
        sa.Column("data", sa.JSON(), nullable=False),
        sa.Column("created", sa.DateTime(), nullable=False),
        sa.Column("removed", sa.Boolean(), nullable=False),
    )
    op.create_index(
        "recipes_chosen",
        "recipes",
        ["job_id", "chosen"],
        unique=True,
        sqlite_where=sa.text("chosen IS NOT NULL"),
    )
    for job in rows("SELECT id, draft, final, created FROM jobs ORDER BY id"):
        for chosen in ("draft", "final"):
            run(
                "INSERT INTO recipes (job_id, name, chosen, data, created, removed) "
                "VALUES (:job, :name, :chosen, :data, :created, 0)",
                job=job["id"],
                name=chosen.capitalize(),
                chosen=chosen,
                data=job[chosen],
                created=job["created"],
            )
    run("ALTER TABLE jobs DROP COLUMN draft")
    run("ALTER TABLE jobs DROP COLUMN final")


def _versions() -> None:
    run("ALTER TABLE scene_versions RENAME COLUMN inventory TO analysis")
    run("ALTER TABLE scene_versions ADD COLUMN stage INTEGER NOT NULL DEFAULT 0")
    for row in rows("SELECT id, analysis, changes FROM scene_versions"):
        analysis = loaded(row["analysis"], {})
        run(
            "UPDATE scene_versions SET stage = :stage, changes = :changes WHERE id = :id",
            id=row["id"],
            stage=analysis.get("stage", 0),
            changes=json.dumps([_change(c, analysis) for c in loaded(row["changes"], [])]),
        )


def _change(old: dict[str, Any], analysis: dict[str, Any]) -> dict[str, Any]:
    """A change to a texture, or the reading in another unit, in the one shape of all changes."""
    if "image" in old:
        return {
            "kind": "texture_size",
            "target": old["name"],
            "key": f"image:{old['image']}",
            "from": old["old"],
            "to": old["new"],
            "memory_saved_bytes": old["old_bytes"] - old["new_bytes"],
            "file_saved_bytes": old["old_file_bytes"] - old["new_file_bytes"],
        }
    return {
        "kind": "reading",
        "target": old.get("name", "scene"),
        "key": "scene:0",
        "from": None,
        "to": analysis.get("read_as"),
        "memory_saved_bytes": 0,
        "file_saved_bytes": 0,
    }


def _trim_list() -> None:
    op.create_table(
        "trim_list",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("version_id", sa.Integer(), sa.ForeignKey("scene_versions.id"), nullable=False),
        sa.Column("trim", sa.String(), nullable=False),
        sa.Column("target", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("parameters", sa.JSON(), nullable=False),
        sa.Column("proposal", sa.JSON(), nullable=False),
        sa.Column("created", sa.DateTime(), nullable=False),
        sa.UniqueConstraint("version_id", "trim", "target"),
    )
    names: dict[int, dict[int, str]] = {}
    for row in rows('SELECT version_id, image, "limit" AS side FROM staged ORDER BY id'):
        version = row["version_id"]
        if version not in names:
            names[version] = _texture_names(version)
        run(
            "INSERT INTO trim_list "
            "(version_id, trim, target, name, parameters, proposal, created) "
            "VALUES (:version, 'texture_size', :target, :name, :parameters, '{}', "
            "(SELECT created FROM scene_versions WHERE id = :version))",
            version=version,
            target=f"image:{row['image']}",
            name=names[version].get(row["image"], f"image {row['image']}"),
            parameters=json.dumps({"limit": row["side"]}),
        )


def _texture_names(version: int) -> dict[int, str]:
    found = rows("SELECT analysis FROM scene_versions WHERE id = :id", id=version)
    return {t["index"]: t["name"] for t in loaded(found[0]["analysis"], {}).get("textures", [])}


def _tables_of_renders() -> None:
    op.create_table(
        "render_groups",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("job_id", sa.Integer(), sa.ForeignKey("jobs.id"), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("settings", sa.JSON(), nullable=False),
        sa.Column("created", sa.DateTime(), nullable=False),
        sa.Column("removed", sa.Boolean(), nullable=False),
        sa.UniqueConstraint("job_id", "kind", "number"),
    )
    op.create_table(
        "renders",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("job_id", sa.Integer(), sa.ForeignKey("jobs.id"), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("version_id", sa.Integer(), sa.ForeignKey("scene_versions.id"), nullable=False),
        sa.Column("group_id", sa.Integer(), sa.ForeignKey("render_groups.id"), nullable=True),
        sa.Column("task_id", sa.Integer(), sa.ForeignKey("tasks.id"), nullable=True),
        sa.Column("recipe", sa.JSON(), nullable=False),
        sa.Column("region", sa.JSON(), nullable=False),
        sa.Column("frame", sa.Integer(), nullable=False),
        sa.Column("device", sa.JSON(), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.Column("preview", sa.JSON(), nullable=False),
        sa.Column("predicted", sa.JSON(), nullable=False),
        sa.Column("measured", sa.JSON(), nullable=False),
        sa.Column("time_profile", sa.JSON(), nullable=False),
        sa.Column("layers", sa.JSON(), nullable=False),
        sa.Column("picture", sa.String(), nullable=True),
        sa.Column("exr", sa.String(), nullable=True),
        sa.Column("created", sa.DateTime(), nullable=False),
        sa.Column("removed", sa.Boolean(), nullable=False),
        sa.UniqueConstraint("job_id", "kind", "number"),
    )
    op.create_index("renders_by_task", "renders", ["task_id"])


INSERT = (
    "INSERT INTO renders (id, job_id, kind, number, version_id, group_id, task_id, recipe, region, "
    "frame, device, note, preview, predicted, measured, time_profile, layers, picture, exr, "
    "created, removed) VALUES (:id, :job_id, :kind, :number, :version_id, :group_id, :task_id, "
    ":recipe, :region, :frame, :device, :note, :preview, '{}', :measured, :time_profile, :layers, "
    ":picture, :exr, :created, :removed)"
)


def _trials_and_runs() -> dict[int, int]:
    """Move them; returns the new render of each task."""
    devices = [loaded(r["data"], {}) for r in rows("SELECT data FROM devices ORDER BY id")]
    of_task: dict[int, int] = {}
    last = 0
    for t in rows("SELECT * FROM trials ORDER BY id"):
        run(
            INSERT,
            **_same(t),
            id=t["id"],
            kind="trial",
            number=t["number"],
            group_id=None,
            region=t["region"],
            device=json.dumps(_device(t["device"], devices)),
            note=t["note"],
            preview=t["preview"] or "{}",
            measured=json.dumps(_measured(loaded(t["measured"], {}))),
            time_profile=json.dumps(_time_profile(loaded(t["profile"], {}))),
            layers=t["layers"] or "{}",
            removed=t["removed"],
        )
        last = max(last, t["id"])
        if t["task_id"] is not None:
            of_task[t["task_id"]] = t["id"]
    for r in rows("SELECT * FROM runs ORDER BY id"):
        last += 1
        run(
            "INSERT INTO render_groups (job_id, kind, number, settings, created, removed) "
            "VALUES (:job, 'run', :number, '{}', :created, 0)",
            job=r["job_id"],
            number=r["id"],
            created=r["created"],
        )
        group = rows(
            "SELECT id FROM render_groups "
            "WHERE job_id = :job AND kind = 'run' AND number = :number",
            job=r["job_id"],
            number=r["id"],
        )[0]["id"]
        recipe = loaded(r["recipe"], {})
        run(
            INSERT,
            **_same(r),
            id=last,
            kind="frame",
            number=r["id"],
            group_id=group,
            region=json.dumps([0, 0, recipe.get("width", 1), recipe.get("height", 1)]),
            device=json.dumps(_device(r["device"], devices)),
            note="",
            preview="{}",
            measured=json.dumps(_measured(loaded(r["measured"], {}))),
            time_profile="{}",
            layers="{}",
            removed=0,
        )
        if r["task_id"] is not None:
            of_task[r["task_id"]] = last
    return of_task


def _same(row: dict[str, Any]) -> dict[str, Any]:
    """What trials and runs have alike."""
    names = ("job_id", "version_id", "task_id", "recipe", "frame", "picture", "exr", "created")
    return {name: row[name] for name in names}


def _device(shown: str, devices: list[Any]) -> dict[str, Any]:
    """What is known of a device that was kept as it was shown."""
    simulated = shown.endswith(" (simulated)")
    name = shown.removesuffix(" (simulated)")
    known: dict[str, Any] = next((d for d in devices if d.get("name") == name), {})
    return {**known, "name": name, "kind": "card" if simulated else known.get("kind", "cpu")}


def _measured(old: dict[str, Any]) -> dict[str, Any]:
    out = dict(old)
    if "clean_share" in out:
        out["converged_fraction"] = out.pop("clean_share")
    if isinstance(out.get("rays"), dict) and "straight" in out["rays"]:
        rays = {("transparent" if k == "straight" else k): n for k, n in out["rays"].items()}
        out["rays"] = rays
    return out


def _time_profile(old: dict[str, Any]) -> dict[str, Any]:
    out = dict(old)
    for division in ("kinds", "bounces", "components", "objects", "materials", "lights"):
        if division in out:
            out[division] = [_share(row) for row in out[division]]
    for row in out.get("kinds", []):
        row["name"] = "transparent" if row["name"] == "straight" else row["name"]
    if isinstance(out.get("costs"), dict) and "blocks" in out["costs"]:
        out["costs"] = {("leaves" if k == "blocks" else k): v for k, v in out["costs"].items()}
    return out


def _share(row: dict[str, Any]) -> dict[str, Any]:
    return {{"grain": "noise", "blocks": "leaves"}.get(k, k): v for k, v in row.items()}


def _tasks(render_of: dict[int, int]) -> None:
    for task in rows("SELECT id, kind, payload FROM tasks"):
        kind, payload = _task(task["kind"], loaded(task["payload"], {}), render_of.get(task["id"]))
        run(
            "UPDATE tasks SET kind = :kind, payload = :payload WHERE id = :id",
            id=task["id"],
            kind=kind,
            payload=json.dumps(payload),
        )


def _task(kind: str, old: dict[str, Any], render: int | None) -> tuple[str, dict[str, Any]]:
    if kind in ("trial", "run"):
        # The key under which a paused render's state was saved.
        return "render", {"render": render, "key": old.get("key")}
    if kind == "trim":
        choices = [
            {
                "trim": "texture_size",
                "target": {"kind": "image", "index": int(image), "name": f"image {image}"},
                "parameters": {"limit": limit},
            }
            for image, limit in old.get("sizes", {}).items()
        ]
        return kind, {"version": old.get("version"), "name": old.get("name"), "choices": choices}
    if kind == "read_in":
        return "reading", {k: v for k, v in old.items() if k != "notes"}
    if kind == "open" and old.get("uploaded"):
        # Uploads lie in the scratch folder, wherever the home is.
        return kind, {**old, "source": str(old.get("source", "")).rsplit("/", 1)[-1]}
    return kind, old
