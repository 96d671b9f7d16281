"""Results and sensor logs that were measured outside Yondle and added to a step."""

import sqlalchemy as sa
from alembic import op

revision = "3"
down_revision = "2"


def upgrade() -> None:
    """Bring schema version 2 to version 3."""
    op.create_table(
        "result",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("step", sa.Integer, sa.ForeignKey("step.number"), nullable=False, index=True),
        sa.Column("workload", sa.Text, nullable=False),
        sa.Column("at", sa.Text, nullable=False),
        sa.Column("score", sa.Float, nullable=False),
        sa.Column("facts", sa.Text, nullable=False),
        sa.Column("frame_times", sa.LargeBinary),
    )
    op.create_table(
        "sensor_log",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("step", sa.Integer, sa.ForeignKey("step.number"), nullable=False, index=True),
        sa.Column("at", sa.Text, nullable=False),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("began_at", sa.Text, nullable=False),
        sa.Column("channels", sa.Text, nullable=False),
        sa.Column("samples", sa.Integer, nullable=False),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
