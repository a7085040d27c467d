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
    # A scan after a master was built looked at it as at a frame, and found steps of 1, as of another driver.
    op.execute(
        """UPDATE frame_set SET level_adu = NULL, noise_adu = NULL, sample_step =
            (SELECT loose.sample_step FROM frame_set AS loose WHERE loose.master_set_id = frame_set.id)
        WHERE is_master AND level_adu IS NOT NULL
            AND id IN (SELECT set_id FROM master_record WHERE built_here)"""
    )
