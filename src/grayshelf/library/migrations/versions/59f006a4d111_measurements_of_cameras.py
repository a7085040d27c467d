"""measurements of cameras"""

import sqlalchemy as sa
from alembic import op

import grayshelf.library.models

revision = "59f006a4d111"
down_revision = "21c4a4181b70"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "measurement",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("camera", sa.String(), nullable=False),
        sa.Column("rig_id", sa.Integer(), nullable=True),
        sa.Column("job_id", sa.Integer(), nullable=True),
        sa.Column("source", sa.String(), nullable=False),
        sa.Column("gains", sa.JSON(), nullable=False),
        sa.Column("settings", sa.JSON(), nullable=False),
        sa.Column("notes", sa.JSON(), nullable=False),
        sa.Column("frames", sa.String(), nullable=False),
        sa.Column("made_at", grayshelf.library.models.Utc(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    with op.batch_alter_table("measurement", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_measurement_camera"), ["camera"], unique=False)
        batch_op.create_index(batch_op.f("ix_measurement_kind"), ["kind"], unique=False)

    op.create_table(
        "camera_value",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("camera", sa.String(), nullable=False),
        sa.Column("gain", sa.Double(), nullable=False),
        sa.Column("values", sa.JSON(), nullable=False),
        sa.Column("own_choice", sa.Boolean(), nullable=False),
        sa.Column("measurement_id", sa.Integer(), nullable=True),
        sa.Column("accepted_at", grayshelf.library.models.Utc(), nullable=False),
        sa.ForeignKeyConstraint(["measurement_id"], ["measurement.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    with op.batch_alter_table("camera_value", schema=None) as batch_op:
        batch_op.create_index(batch_op.f("ix_camera_value_camera"), ["camera"], unique=False)

    op.create_table(
        "measurement_shot",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("measurement_id", sa.Integer(), nullable=False),
        sa.Column("gain", sa.Double(), nullable=False),
        sa.Column("offset", sa.Double(), nullable=False),
        sa.Column("role", sa.String(), nullable=False),
        sa.Column("exposure_s", sa.Double(), nullable=False),
        sa.Column("brightness", sa.Integer(), nullable=True),
        sa.Column("source", sa.String(), nullable=False),
        sa.Column("pair", sa.Integer(), nullable=True),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("reading", sa.JSON(), nullable=False),
        sa.Column("taken_at", grayshelf.library.models.Utc(), nullable=True),
        sa.Column("frame_id", sa.Integer(), nullable=True),
        sa.Column("path", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["frame_id"], ["frame.id"]),
        sa.ForeignKeyConstraint(["measurement_id"], ["measurement.id"]),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("measurement_id", "path"),
    )
    with op.batch_alter_table("measurement_shot", schema=None) as batch_op:
        batch_op.create_index(
            batch_op.f("ix_measurement_shot_measurement_id"), ["measurement_id"], unique=False
        )

    # Not in a batch: that would drop the table with all frames pointing at it.
    op.execute("ALTER TABLE frame_set ADD COLUMN measurement_id INTEGER REFERENCES measurement(id)")
    op.create_index("ix_frame_set_measurement_id", "frame_set", ["measurement_id"])


def downgrade() -> None:
    op.drop_index("ix_frame_set_measurement_id", "frame_set")
    op.execute("ALTER TABLE frame_set DROP COLUMN measurement_id")
    with op.batch_alter_table("measurement_shot", schema=None) as batch_op:
        batch_op.drop_index(batch_op.f("ix_measurement_shot_measurement_id"))

    op.drop_table("measurement_shot")
    with op.batch_alter_table("camera_value", schema=None) as batch_op:
        batch_op.drop_index(batch_op.f("ix_camera_value_camera"))

    op.drop_table("camera_value")
    with op.batch_alter_table("measurement", schema=None) as batch_op:
        batch_op.drop_index(batch_op.f("ix_measurement_kind"))
        batch_op.drop_index(batch_op.f("ix_measurement_camera"))

    op.drop_table("measurement")
