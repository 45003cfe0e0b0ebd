"""What was done to photos can be taken back; a project has notes."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the table and the column."""
    op.create_table(
        "historystep",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column(
            "project_id", sa.Integer(), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False, index=True
        ),
        sa.Column("says", sa.String(), nullable=False),
        sa.Column("change", sa.JSON(), nullable=False),
        sa.Column("done", sa.Boolean(), nullable=False),
        sa.Column("made", sa.String(), nullable=False),
        sqlite_autoincrement=True,
    )
    op.add_column("project", sa.Column("notes", sa.String(), nullable=False, server_default=""))


def downgrade() -> None:
    """Leave them out again."""
    op.drop_table("historystep")
    with op.batch_alter_table("project") as batch:
        batch.drop_column("notes")
