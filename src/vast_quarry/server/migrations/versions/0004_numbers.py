"""Numbers of projects and jobs never come again; rows know how often they were changed, jobs how often a worker died."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

#: columns of each table, added on the way
_MORE = {
    "project": [
        sa.Column("revision", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("draft_on", sa.Integer(), nullable=True),
    ],
    "job": [sa.Column("deaths", sa.Integer(), nullable=False, server_default="0")],
}


def upgrade() -> None:
    """Make the tables anew: SQLite can only then be told to count on for ever."""
    for table, columns in _MORE.items():
        with op.batch_alter_table(table, recreate="always", table_kwargs={"sqlite_autoincrement": True}) as batch:
            for column in columns:
                batch.add_column(column)


def downgrade() -> None:
    """Leave the columns out again."""
    for table, columns in _MORE.items():
        with op.batch_alter_table(table, recreate="always") as batch:
            for column in columns:
                batch.drop_column(column.name)
