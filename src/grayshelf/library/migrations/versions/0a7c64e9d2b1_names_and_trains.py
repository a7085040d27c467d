"""what spellings stand for, trains told by focal length, rigs proposed and joined"""

import sqlalchemy as sa
from alembic import op

import grayshelf.library.models

revision = "0a7c64e9d2b1"
down_revision = "f38b6d5120ce"
branch_labels = None
depends_on = None

COLUMNS = (
    # Rigs that are there were not proposed: a person works with them.
    ("proposed", "BOOLEAN NOT NULL DEFAULT 0"),
    ("told_focal_mm", "FLOAT"),
    ("joined_to", "INTEGER REFERENCES rig (id)"),
)


def upgrade() -> None:
    op.create_table(
        "spelling",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("about", sa.String(), nullable=False),
        sa.Column("camera", sa.String(), nullable=False),
        sa.Column("spelled", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("apart", sa.Boolean(), nullable=False),
        sa.Column("by_hand", sa.Boolean(), nullable=False),
        sa.Column("at", grayshelf.library.models.Utc(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("about", "camera", "spelled", "name"),
    )
    for name, kind in COLUMNS:
        op.execute(f"ALTER TABLE rig ADD COLUMN {name} {kind}")
    op.execute("ALTER TABLE frame ADD COLUMN written VARCHAR")
    op.create_index("ix_frame_written", "frame", ["written", "camera", "state"])
    op.execute("CREATE INDEX ix_frame_rejected ON frame (path) WHERE rejected")


def downgrade() -> None:
    op.drop_index("ix_frame_rejected", "frame")
    op.drop_index("ix_frame_written", "frame")
    op.execute("ALTER TABLE frame DROP COLUMN written")
    for name, _ in reversed(COLUMNS):
        op.execute(f"ALTER TABLE rig DROP COLUMN {name}")
    op.drop_table("spelling")
