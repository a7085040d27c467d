"""flats of one twilight are one set: those that are here are put into sets anew at the next start"""

from alembic import op

revision = "9c40d7b1e652"
down_revision = "4b9e2d7fa016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        """INSERT OR REPLACE INTO setting (key, value)
        SELECT 'flats put into sets anew', '{"due": true}' WHERE EXISTS (SELECT 1 FROM frame WHERE kind = 'flat')"""
    )
