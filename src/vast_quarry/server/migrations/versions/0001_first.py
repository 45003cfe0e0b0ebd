"""Projects and jobs."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    """Make the tables."""
    op.create_table(
        "project",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("made", sa.String, nullable=False),
        sa.Column("grade", sa.String, nullable=False),
        sa.Column("settings", sa.JSON, nullable=False),
        sa.Column("plan", sa.JSON, nullable=False),
        sa.Column("left_out", sa.JSON, nullable=False),
        sa.Column("draft", sa.JSON, nullable=False),
        sa.Column("draft_done", sa.Integer, nullable=False),
    )
    op.create_table(
        "job",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column(
            "project_id", sa.Integer, sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False, index=True
        ),
        sa.Column("kind", sa.String, nullable=False),
        sa.Column("params", sa.JSON, nullable=False),
        sa.Column("state", sa.String, nullable=False, index=True),
        sa.Column("layer", sa.String, nullable=False),
        sa.Column("stage", sa.String, nullable=False),
        sa.Column("done", sa.Float, nullable=False),
        sa.Column("total", sa.Float, nullable=False),
        sa.Column("seconds_left", sa.Float),
        sa.Column("message", sa.String, nullable=False),
        sa.Column("log", sa.JSON, nullable=False),
        sa.Column("cancel", sa.Boolean, nullable=False),
        sa.Column("made", sa.String, nullable=False),
        sa.Column("started", sa.String),
        sa.Column("ended", sa.String),
        sa.Column("heartbeat", sa.String),
    )


def downgrade() -> None:
    """Drop the tables."""
    op.drop_table("job")
    op.drop_table("project")
