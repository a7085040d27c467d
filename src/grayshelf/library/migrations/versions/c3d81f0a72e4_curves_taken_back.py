"""curves taken back"""

from alembic import op

revision = "c3d81f0a72e4"
down_revision = "7a1c02d96b5e"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE panel_curve ADD COLUMN taken_back BOOLEAN NOT NULL DEFAULT 0")


def downgrade() -> None:
    op.execute("ALTER TABLE panel_curve DROP COLUMN taken_back")
