"""Write a migration from what the models have and the newest migration lacks: python tools/new_migration.py WORDS

Run it once more without words after the migration is as it should be: what the newest revision holds is then written
down for the start (`newest.json`).
"""

import json
import sys
import tempfile
from pathlib import Path

from alembic import command
from alembic.config import Config

from grayshelf.library import database, upgrade

MIGRATIONS = Path(database.__file__).parent / "migrations"

if len(sys.argv) > 1:
    with tempfile.TemporaryDirectory() as folder:
        db = database.Database(Path(folder) / "empty.db")
        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS))
        with db.engine.begin() as connection:
            config.attributes["connection"] = connection
            if any((MIGRATIONS / "versions").glob("*.py")):
                command.upgrade(config, "head")
            command.revision(config, " ".join(sys.argv[1:]), autogenerate=True, rev_id=None)
else:
    (MIGRATIONS / "newest.json").write_text(json.dumps(upgrade.newest(), indent=1) + "\n")
