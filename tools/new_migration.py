"""Write a migration from what the models have and the newest migration lacks: python tools/new_migration.py WORDS"""

import sys
import tempfile
from pathlib import Path

from alembic import command
from alembic.config import Config

from grayshelf.library import database

with tempfile.TemporaryDirectory() as folder:
    db = database.Database(Path(folder) / "empty.db")
    config = Config()
    config.set_main_option("script_location", str(Path(database.__file__).parent / "migrations"))
    with db.engine.begin() as connection:
        config.attributes["connection"] = connection
        if any((Path(database.__file__).parent / "migrations" / "versions").glob("*.py")):
            command.upgrade(config, "head")
        command.revision(config, " ".join(sys.argv[1:]), autogenerate=True, rev_id=None)
