"""flats of one twilight, and frames shot in one go over noon, are one set: at the next start sets are made anew of what is here"""

from alembic import op

revision = "9c40d7b1e652"
down_revision = "4b9e2d7fa016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        """INSERT OR REPLACE INTO setting (key, value)
        SELECT 'put into sets anew', '{"due": true}' WHERE EXISTS (SELECT 1 FROM frame WHERE kind != 'light')"""
    )
