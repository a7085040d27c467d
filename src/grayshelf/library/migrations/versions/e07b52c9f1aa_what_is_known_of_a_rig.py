"""what a person says of a rig and of names; levels of sets; the kind of what was taken off a flat"""

from alembic import op

revision = "e07b52c9f1aa"
down_revision = "c3d81f0a72e4"
branch_labels = None
depends_on = None

COLUMNS = (
    ("rig", "says", "JSON NOT NULL DEFAULT '{}'"),
    ("rig", "time_zone", "VARCHAR"),
    ("frame_set", "level_adu", "FLOAT"),
    ("frame_set", "noise_adu", "FLOAT"),
    ("frame_set", "said", "JSON NOT NULL DEFAULT '{}'"),
    ("folder", "passed_over", "JSON NOT NULL DEFAULT '{}'"),
    ("rig_event", "taken_back", "BOOLEAN NOT NULL DEFAULT 0"),
    ("master_record", "pedestal_kind", "VARCHAR NOT NULL DEFAULT ''"),
)


def upgrade() -> None:
    for table, name, kind in COLUMNS:
        op.execute(f"ALTER TABLE {table} ADD COLUMN {name} {kind}")
    op.execute(
        "UPDATE master_record SET pedestal_kind = (SELECT kind FROM frame_set WHERE frame_set.id = pedestal_set_id) "
        "WHERE pedestal_set_id IS NOT NULL"
    )


def downgrade() -> None:
    for table, name, _ in COLUMNS:
        op.execute(f"ALTER TABLE {table} DROP COLUMN {name}")
