"""What was done to masks can be taken back as what was done to photos: one table for both."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the column."""
    op.add_column("historystep", sa.Column("layer", sa.String(), nullable=False, server_default="photos"))


def downgrade() -> None:
    """Leave it out again, with the steps of other layers: without it they would pass for steps of photos."""
    op.execute("DELETE FROM historystep WHERE layer <> 'photos'")
    with op.batch_alter_table("historystep") as batch:
        batch.drop_column("layer")
