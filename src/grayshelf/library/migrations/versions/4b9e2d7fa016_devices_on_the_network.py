"""which device on the network moves which part of a rig"""

import sqlalchemy as sa
from alembic import op

revision = "4b9e2d7fa016"
down_revision = "e5b07c91d3f4"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("rig", sa.Column("attached", sa.JSON(), server_default="{}", nullable=False))
