"""Settings of evening out are kept under names."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the table."""
    op.create_table(
        "tonepreset",
        sa.Column("name", sa.String, primary_key=True),
        sa.Column("tone", sa.JSON, nullable=False),
    )


def downgrade() -> None:
    """Drop it."""
    op.drop_table("tonepreset")
