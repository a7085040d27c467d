"""what was said of frames"""

import sqlalchemy as sa
from alembic import op

import grayshelf.library.models

revision = "c81e5f20a9d7"
down_revision = "a3f17c0b5d92"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "mending",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("said_at", grayshelf.library.models.Utc(), nullable=False),
        sa.Column("words", sa.Text(), nullable=False),
        sa.Column("of", sa.Text(), nullable=False),
        sa.Column("n_frames", sa.Integer(), nullable=False),
        sa.Column("taken_back_at", grayshelf.library.models.Utc(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "mended_frame",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("mending_id", sa.Integer(), nullable=False),
        sa.Column("frame_id", sa.Integer(), nullable=True),
        sa.Column("file", sa.String(), nullable=False),
        sa.Column("says", sa.JSON(), nullable=False),
        sa.Column("before", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["frame_id"], ["frame.id"]),
        sa.ForeignKeyConstraint(["mending_id"], ["mending.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_mended_frame_mending_id", "mended_frame", ["mending_id"])
    op.create_index("ix_mended_frame", "mended_frame", ["frame_id", "mending_id"])


def downgrade() -> None:
    op.drop_table("mended_frame")
    op.drop_table("mending")
