"""what is missing, what is to be looked at and words in files' names are found without reading every frame"""

from alembic import op

revision = "d92a6e0b7f14"
down_revision = "b41f7d3e8c25"
branch_labels = None
depends_on = None

INDEXES = (
    "ix_frame_missing ON frame (set_id) WHERE missing_since IS NOT NULL",
    "ix_frame_to_look_at ON frame (path) "
    "WHERE missing_since IS NOT NULL OR state IN ('lacking', 'unreadable', 'duplicate')",
    "ix_frame_counts ON frame (folder_id, state, kind, missing_since)",
    "ix_frame_set_master ON frame_set (master_set_id)",
    "ix_frame_set_shown ON frame_set (night, kind, id)",
)
#: The words are those of the frames' own rows: triggers keep them the same whoever writes.
WORDS = (
    "CREATE VIRTUAL TABLE frame_words USING fts5(path, content='frame', content_rowid='id', tokenize='trigram')",
    """CREATE TRIGGER frame_words_added AFTER INSERT ON frame BEGIN
        INSERT INTO frame_words(rowid, path) VALUES (new.id, new.path);
    END""",
    """CREATE TRIGGER frame_words_gone AFTER DELETE ON frame BEGIN
        INSERT INTO frame_words(frame_words, rowid, path) VALUES ('delete', old.id, old.path);
    END""",
    """CREATE TRIGGER frame_words_changed AFTER UPDATE OF path ON frame WHEN old.path != new.path BEGIN
        INSERT INTO frame_words(frame_words, rowid, path) VALUES ('delete', old.id, old.path);
        INSERT INTO frame_words(rowid, path) VALUES (new.id, new.path);
    END""",
    "INSERT INTO frame_words(frame_words) VALUES ('rebuild')",
)


def upgrade() -> None:
    for index in INDEXES:
        op.execute(f"CREATE INDEX {index}")
    for statement in WORDS:
        op.execute(statement)


def downgrade() -> None:
    for name in ("changed", "gone", "added"):
        op.execute(f"DROP TRIGGER frame_words_{name}")
    op.execute("DROP TABLE frame_words")
    for index in INDEXES:
        op.execute(f"DROP INDEX {index.split()[0]}")
