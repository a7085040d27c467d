"""frames whose files are missing keep their place; a token for each job; hashes are looked for"""

from alembic import op

revision = "b41f7d3e8c25"
down_revision = "e07b52c9f1aa"
branch_labels = None
depends_on = None

COLUMNS = (("job", "token", "VARCHAR NOT NULL DEFAULT ''"), ("frame", "missing_since", "DATETIME"))


def upgrade() -> None:
    for table, name, kind in COLUMNS:
        op.execute(f"ALTER TABLE {table} ADD COLUMN {name} {kind}")
    op.execute("CREATE INDEX ix_frame_sha256 ON frame (sha256)")
    # Jobs that were cut short go on under a token of their own.
    op.execute("UPDATE job SET token = lower(hex(randomblob(4)))")


def downgrade() -> None:
    op.execute("DROP INDEX ix_frame_sha256")
    for table, name, _ in COLUMNS:
        op.execute(f"ALTER TABLE {table} DROP COLUMN {name}")
