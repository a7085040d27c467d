"""what is asked of all frames of sets is in an index, and so are those that are packed; sets of two telescopes are parted"""

import sqlalchemy as sa
from alembic import op

revision = "5e2b8c90d4a7"
down_revision = "9c40d7b1e652"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_index(
        "ix_frame_of_set",
        "frame",
        ["set_id", "state", "kind", "night", "missing_since", "rejected", "size_bytes"],
    )
    op.create_index(
        "ix_frame_packed", "frame", ["set_id"], sqlite_where=sa.text("lower(substr(path, -3)) = '.fz'")
    )
    # Also of each frame that leaves the library it is asked whether a master was made of it.
    op.create_index("ix_master_input_frame", "master_input", ["frame_id", "master_id"])
    # The new one begins with the same.
    op.drop_index("ix_frame_set_id", "frame")
    # Frames behind a cap that name two telescopes are two sets: at the next start they are parted.
    op.execute(
        """INSERT OR REPLACE INTO setting (key, value)
        SELECT 'put into sets anew', '{"due": true}'
        WHERE EXISTS (SELECT 1 FROM rig GROUP BY camera HAVING count(DISTINCT telescope) > 1)"""
    )
