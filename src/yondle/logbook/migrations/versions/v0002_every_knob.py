"""Restarts, evidence, profiles and plans: what an attempt was to run, what a failure points to, what is kept by name."""

import sqlalchemy as sa
from alembic import op

revision = "2"
down_revision = "1"


def upgrade() -> None:
    """Bring schema version 1 to version 2."""
    op.add_column("step", sa.Column("derived", sa.Text))
    for name in ("check", "last", "points_to", "signs"):
        op.add_column("attempt", sa.Column(name, sa.Text))
    op.add_column("pass", sa.Column("frame_times", sa.LargeBinary))
    op.create_table(
        "profile",
        sa.Column("name", sa.Text, primary_key=True),
        sa.Column("purpose", sa.Text, nullable=False),
        sa.Column("benchmark", sa.Text, nullable=False),
        sa.Column("setup", sa.Text, nullable=False),
        sa.Column("step", sa.Integer, sa.ForeignKey("step.number")),
        sa.Column("at", sa.Text, nullable=False),
    )
    op.create_table(
        "plan",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("definition", sa.Text, nullable=False),
        sa.Column("start", sa.Text, nullable=False),
        sa.Column("started_at", sa.Text, nullable=False),
        sa.Column("started_s", sa.Float, nullable=False),
        sa.Column("ended_at", sa.Text),
        sa.Column("end", sa.Text),
    )
    op.create_table(
        "plan_move",
        sa.Column("plan", sa.Integer, sa.ForeignKey("plan.id"), primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("words", sa.Text, nullable=False),
        sa.Column("attempt", sa.Integer),
        sa.Column("result", sa.Text),
    )
