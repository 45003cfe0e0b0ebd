"""Numbers of projects and jobs never come again; rows know how often they were changed, jobs how often a worker died."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

#: a column of each table, added on the way
_MORE = {"project": ("revision", "1"), "job": ("deaths", "0")}


def upgrade() -> None:
    """Make the tables anew: SQLite can only then be told to count on for ever."""
    for table, (name, value) in _MORE.items():
        with op.batch_alter_table(table, recreate="always", table_kwargs={"sqlite_autoincrement": True}) as batch:
            batch.add_column(sa.Column(name, sa.Integer(), nullable=False, server_default=value))


def downgrade() -> None:
    """Leave the columns out again."""
    for table, (name, _) in _MORE.items():
        with op.batch_alter_table(table, recreate="always") as batch:
            batch.drop_column(name)
