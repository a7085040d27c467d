"""sheet of flat settings"""

import sqlalchemy as sa
from alembic import op

import grayshelf.library.models

revision = "7a1c02d96b5e"
down_revision = "59f006a4d111"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "light_source",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("dimmable", sa.Boolean(), nullable=False),
        sa.Column("lowest", sa.Integer(), nullable=True),
        sa.Column("highest", sa.Integer(), nullable=True),
        sa.Column("pulse_hz", sa.Double(), nullable=True),
        sa.Column("duty", sa.Double(), nullable=True),
        sa.Column("diffusers", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )
    op.create_table(
        "panel_curve",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("source_id", sa.Integer(), nullable=False),
        sa.Column("rig_id", sa.Integer(), nullable=False),
        sa.Column("job_id", sa.Integer(), nullable=True),
        sa.Column("points", sa.JSON(), nullable=False),
        sa.Column("shots", sa.Integer(), nullable=False),
        sa.Column("made_at", grayshelf.library.models.Utc(), nullable=False),
        sa.ForeignKeyConstraint(["rig_id"], ["rig.id"]),
        sa.ForeignKeyConstraint(["source_id"], ["light_source.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_panel_curve_rig_id", "panel_curve", ["rig_id"])
    op.create_index("ix_panel_curve_source_id", "panel_curve", ["source_id"])
    op.create_table(
        "flat_row",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("rig_id", sa.Integer(), nullable=False),
        sa.Column("filter_code", sa.String(), nullable=False),
        sa.Column("gain", sa.Double(), nullable=False),
        sa.Column("offset", sa.Double(), nullable=False),
        sa.Column("binning", sa.Integer(), nullable=False),
        sa.Column("wishes", sa.JSON(), nullable=False),
        sa.Column("added", sa.Boolean(), nullable=False),
        sa.Column("left_out", sa.Boolean(), nullable=False),
        sa.ForeignKeyConstraint(["rig_id"], ["rig.id"]),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("rig_id", "filter_code", "gain", "offset", "binning"),
    )
    op.create_index("ix_flat_row_rig_id", "flat_row", ["rig_id"])
    # Columns are added one by one: tables that others point at are never made anew.
    op.execute("ALTER TABLE rig ADD COLUMN source_id INTEGER REFERENCES light_source (id)")
    op.execute("ALTER TABLE rig_event ADD COLUMN kind VARCHAR NOT NULL DEFAULT 'train'")
    for column in (
        "source VARCHAR NOT NULL DEFAULT ''",
        "diffusers JSON NOT NULL DEFAULT '[]'",
        "target_adu DOUBLE",
        "pedestal_adu DOUBLE",
        "banding_percent DOUBLE",
        "step_id INTEGER",
        "taken_back BOOLEAN NOT NULL DEFAULT 0",
    ):
        op.execute(f"ALTER TABLE flat_setting ADD COLUMN {column}")
