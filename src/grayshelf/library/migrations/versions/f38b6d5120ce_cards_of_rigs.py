"""cameras as things of their own; house rules, parts and their changes"""

import json

import sqlalchemy as sa
from alembic import op

import grayshelf.library.models

revision = "f38b6d5120ce"
down_revision = "d92a6e0b7f14"
branch_labels = None
depends_on = None

COLUMNS = (
    ("rig", "rules", "JSON NOT NULL DEFAULT '{}'"),
    ("rig", "parts", "JSON NOT NULL DEFAULT '{}'"),
    ("rig", "retired_at", "DATETIME"),
    ("rig_filter", "gain", "FLOAT"),
    ("rig_filter", "focus", "FLOAT"),
)


def upgrade() -> None:
    op.create_table(
        "camera",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("traits", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )
    op.create_table(
        "card_change",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("rig_id", sa.Integer(), nullable=True),
        sa.Column("about", sa.String(), nullable=False),
        sa.Column("at", grayshelf.library.models.Utc(), nullable=False),
        sa.Column("words", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("before", sa.JSON(), nullable=False),
        sa.Column("after", sa.JSON(), nullable=False),
        sa.Column("taken_back_at", grayshelf.library.models.Utc(), nullable=True),
        sa.ForeignKeyConstraint(["rig_id"], ["rig.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_card_change_rig_id", "card_change", ["rig_id"])
    for table, name, kind in COLUMNS:
        op.execute(f"ALTER TABLE {table} ADD COLUMN {name} {kind}")
    # What was known of a camera stood with each of its rigs: the first that says something has it.
    known: dict[str, dict[str, object]] = {}
    for camera, kept in op.get_bind().exec_driver_sql("SELECT camera, traits FROM rig ORDER BY id"):
        traits = known.setdefault(camera, {})
        try:
            said = json.loads(kept)
        except (TypeError, ValueError):
            continue
        for name, value in said.items() if isinstance(said, dict) else ():
            traits.setdefault(name, value)
    for camera, traits in known.items():
        op.get_bind().exec_driver_sql(
            "INSERT INTO camera (name, traits) VALUES (?, ?)", (camera, json.dumps(traits))
        )
    op.execute("ALTER TABLE rig DROP COLUMN traits")


def downgrade() -> None:
    op.execute("ALTER TABLE rig ADD COLUMN traits JSON NOT NULL DEFAULT '{}'")
    op.execute(
        "UPDATE rig SET traits = coalesce((SELECT traits FROM camera WHERE camera.name = rig.camera), '{}')"
    )
    for table, name, _ in COLUMNS:
        op.execute(f"ALTER TABLE {table} DROP COLUMN {name}")
    op.drop_index("ix_card_change_rig_id", "card_change")
    op.drop_table("card_change")
    op.drop_table("camera")
