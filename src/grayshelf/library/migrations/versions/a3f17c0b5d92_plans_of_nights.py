"""plans of nights"""

import sqlalchemy as sa
from alembic import op

import grayshelf.library.models

revision = "a3f17c0b5d92"
down_revision = "5d1e9f3a60b7"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "night_plan",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("rig_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("night", sa.Date(), nullable=True),
        sa.Column("made_at", grayshelf.library.models.Utc(), nullable=False),
        sa.Column("plan", sa.JSON(), nullable=False),
        sa.Column("foretold", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["rig_id"], ["rig.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_night_plan_rig_id", "night_plan", ["rig_id"])


def downgrade() -> None:
    op.drop_table("night_plan")
