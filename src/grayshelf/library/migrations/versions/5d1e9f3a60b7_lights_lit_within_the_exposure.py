"""lights lit within the exposure, and what a light is"""

from alembic import op

revision = "5d1e9f3a60b7"
down_revision = "0a7c64e9d2b1"
branch_labels = None
depends_on = None

COLUMNS = (
    ("light_source", "kind", "VARCHAR NOT NULL DEFAULT 'panel'"),
    ("light_source", "before_s", "FLOAT"),
    ("light_source", "after_s", "FLOAT"),
    ("light_source", "shortest_lit_s", "FLOAT"),
    ("flat_setting", "dark_s", "FLOAT NOT NULL DEFAULT 0"),
)


def upgrade() -> None:
    for table, name, kind in COLUMNS:
        op.execute(f"ALTER TABLE {table} ADD COLUMN {name} {kind}")


def downgrade() -> None:
    for table, name, _ in reversed(COLUMNS):
        op.execute(f"ALTER TABLE {table} DROP COLUMN {name}")
