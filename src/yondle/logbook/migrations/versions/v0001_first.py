"""The first tables: rigs, steps, attempts, passes, sample blocks, journal, notes and state."""

import sqlalchemy as sa
from alembic import op

revision = "1"
down_revision = None


def upgrade() -> None:
    """Make the tables of schema version 1."""
    op.create_table(
        "rig",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("kind", sa.Text, nullable=False),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("definition", sa.Text, nullable=False),
    )
    op.create_table(
        "step",
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("rig", sa.Integer, sa.ForeignKey("rig.id"), nullable=False),
        sa.Column("kind", sa.Text, nullable=False),
        sa.Column("parent", sa.Integer, sa.ForeignKey("step.number")),
        sa.Column("setup", sa.Text, nullable=False),
        sa.Column("changes", sa.Text, nullable=False),
        sa.Column("joint", sa.Boolean, nullable=False),
    )
    op.create_table(
        "attempt",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("step", sa.Integer, sa.ForeignKey("step.number"), nullable=False, index=True),
        sa.Column("home", sa.Text, nullable=False),
        sa.Column("home_step", sa.Integer),
        sa.Column("boot_id", sa.Text, nullable=False),
        sa.Column("started_at", sa.Text, nullable=False),
        sa.Column("started_s", sa.Float, nullable=False),
        sa.Column("conditions", sa.Text, nullable=False),
        sa.Column("verdict", sa.Text),
        sa.Column("failure", sa.Text),
        sa.Column("stage", sa.Text),
        sa.Column("time_to_failure_s", sa.Float),
        sa.Column("reason", sa.Text),
        sa.Column("code", sa.Text),
        sa.Column("rests_at", sa.Text),
        sa.Column("verified", sa.Boolean),
        sa.Column("closed_at", sa.Text),
    )
    op.create_table(
        "pass",
        sa.Column("attempt", sa.Integer, sa.ForeignKey("attempt.id"), primary_key=True),
        sa.Column("ordinal", sa.Integer, primary_key=True),
        sa.Column("stage", sa.Text, nullable=False),
        sa.Column("workload", sa.Text, nullable=False),
        sa.Column("round", sa.Integer, nullable=False),
        sa.Column("warm_up", sa.Boolean, nullable=False),
        sa.Column("started_s", sa.Float, nullable=False),
        sa.Column("ok", sa.Boolean),
        sa.Column("score", sa.Float),
        sa.Column("duration_s", sa.Float),
        sa.Column("failure", sa.Text),
        sa.Column("detail", sa.Text),
        sa.Column("facts", sa.Text),
        sa.Column("disturbed", sa.Text, nullable=False, server_default=""),
    )
    op.create_table(
        "sample_block",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("attempt", sa.Integer, sa.ForeignKey("attempt.id"), nullable=False, index=True),
        sa.Column("ordinal", sa.Integer),
        sa.Column("from_s", sa.Float, nullable=False),
        sa.Column("to_s", sa.Float, nullable=False),
        sa.Column("samples", sa.Integer, nullable=False),
        sa.Column("channels", sa.Text, nullable=False),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
    op.create_table(
        "journal",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("attempt", sa.Integer, index=True),
        sa.Column("act", sa.Text, nullable=False),
        sa.Column("detail", sa.Text, nullable=False),
    )
    op.create_table(
        "note",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("step", sa.Integer, sa.ForeignKey("step.number"), nullable=False, index=True),
        sa.Column("at", sa.Text, nullable=False),
        sa.Column("text", sa.Text, nullable=False),
    )
    op.create_table(
        "state",
        sa.Column("name", sa.Text, primary_key=True),
        sa.Column("value", sa.Text, nullable=False),
    )
