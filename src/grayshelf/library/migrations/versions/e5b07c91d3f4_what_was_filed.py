"""what was filed"""

import sqlalchemy as sa
from alembic import op

import grayshelf.library.models

revision = "e5b07c91d3f4"
down_revision = "c81e5f20a9d7"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "filing",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("begun_at", grayshelf.library.models.Utc(), nullable=False),
        sa.Column("root", sa.String(), nullable=False),
        sa.Column("way", sa.String(length=8), nullable=False),
        sa.Column("words", sa.Text(), nullable=False),
        sa.Column("n_files", sa.Integer(), nullable=False),
        sa.Column("made_folders", sa.JSON(), nullable=False),
        sa.Column("job_id", sa.Integer(), nullable=True),
        sa.Column("taken_back_at", grayshelf.library.models.Utc(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "filed_file",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("filing_id", sa.Integer(), nullable=False),
        sa.Column("frame_id", sa.Integer(), nullable=True),
        sa.Column("source", sa.String(), nullable=False),
        sa.Column("target", sa.String(), nullable=False),
        sa.Column("size_bytes", sa.Integer(), nullable=False),
        sa.Column("modified_ns", sa.Integer(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=True),
        sa.Column("state", sa.String(length=8), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["filing_id"], ["filing.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_filed_file_filing_id", "filed_file", ["filing_id"])
    op.create_index("ix_filed_file_frame_id", "filed_file", ["frame_id"])
    op.create_index("ix_filed_file", "filed_file", ["filing_id", "state"])


def downgrade() -> None:
    op.drop_table("filed_file")
    op.drop_table("filing")
