"""long exposures without a set point are put into sets by what they were meant to be"""

from alembic import op

revision = "7d1f3a64c2be"
down_revision = "5e2b8c90d4a7"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # At the next start they are told anew.
    op.execute(
        """INSERT OR REPLACE INTO setting (key, value)
        SELECT 'long exposures put into sets anew', '{"due": true}'
        WHERE EXISTS (SELECT 1 FROM frame WHERE kind IN ('light', 'dark') AND group_key IS NOT NULL
          AND CASE WHEN json_valid(facts) THEN json_extract(facts, '$.set_temp_c') IS NULL
            AND json_extract(facts, '$.exposure_s') >= 30 END)"""
    )
