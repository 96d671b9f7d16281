"""The tables of a logbook as SQLAlchemy sees them; the migrations make and change them in the file."""

from __future__ import annotations

import sqlalchemy as sa

APPLICATION_ID = 0x594E444C
"""'YNDL', in the SQLite header of every logbook."""

SCHEMA_VERSION = 5
"""Kept in the file's user_version; migration number and version go together."""

metadata = sa.MetaData()

rig = sa.Table(
    "rig",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("kind", sa.Text, nullable=False),
    sa.Column("name", sa.Text, nullable=False),
    sa.Column("definition", sa.Text, nullable=False),
)

step = sa.Table(
    "step",
    metadata,
    sa.Column("number", sa.Integer, primary_key=True),
    sa.Column("rig", sa.Integer, sa.ForeignKey("rig.id"), nullable=False),
    sa.Column("kind", sa.Text, nullable=False),
    sa.Column("parent", sa.Integer, sa.ForeignKey("step.number")),
    sa.Column("setup", sa.Text, nullable=False),
    sa.Column("changes", sa.Text, nullable=False),
    sa.Column("joint", sa.Boolean, nullable=False),
    sa.Column("derived", sa.Text),
)

attempt = sa.Table(
    "attempt",
    metadata,
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
    sa.Column("check", sa.Text),
    sa.Column("last", sa.Text),
    sa.Column("points_to", sa.Text),
    sa.Column("signs", sa.Text),
    sa.Column("seen", sa.Text),
)

pass_ = sa.Table(
    "pass",
    metadata,
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
    sa.Column("frame_times", sa.LargeBinary),
    sa.Column("discarded", sa.Text, nullable=False, server_default=""),
)

sample_block = sa.Table(
    "sample_block",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("attempt", sa.Integer, sa.ForeignKey("attempt.id"), nullable=False, index=True),
    sa.Column("ordinal", sa.Integer),
    sa.Column("from_s", sa.Float, nullable=False),
    sa.Column("to_s", sa.Float, nullable=False),
    sa.Column("samples", sa.Integer, nullable=False),
    sa.Column("channels", sa.Text, nullable=False),
    sa.Column("data", sa.LargeBinary, nullable=False),
)

journal = sa.Table(
    "journal",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("attempt", sa.Integer, index=True),
    sa.Column("act", sa.Text, nullable=False),
    sa.Column("detail", sa.Text, nullable=False),
)

note = sa.Table(
    "note",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("step", sa.Integer, sa.ForeignKey("step.number"), nullable=False, index=True),
    sa.Column("at", sa.Text, nullable=False),
    sa.Column("text", sa.Text, nullable=False),
    sa.Column("caveat", sa.Boolean, nullable=False, server_default="0"),
    sa.Column("edited_at", sa.Text, nullable=False, server_default=""),
)

attachment = sa.Table(
    "attachment",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("step", sa.Integer, sa.ForeignKey("step.number"), nullable=False, index=True),
    sa.Column("at", sa.Text, nullable=False),
    sa.Column("name", sa.Text, nullable=False),
    sa.Column("sha256", sa.Text, nullable=False),
    sa.Column("data", sa.LargeBinary, nullable=False),
)

result = sa.Table(
    "result",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("step", sa.Integer, sa.ForeignKey("step.number"), nullable=False, index=True),
    sa.Column("workload", sa.Text, nullable=False),
    sa.Column("at", sa.Text, nullable=False),
    sa.Column("score", sa.Float, nullable=False),
    sa.Column("facts", sa.Text, nullable=False),
    sa.Column("frame_times", sa.LargeBinary),
    sa.Column("discarded", sa.Text, nullable=False, server_default=""),
)

sensor_log = sa.Table(
    "sensor_log",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("step", sa.Integer, sa.ForeignKey("step.number"), nullable=False, index=True),
    sa.Column("at", sa.Text, nullable=False),
    sa.Column("name", sa.Text, nullable=False),
    sa.Column("began_at", sa.Text, nullable=False),
    sa.Column("channels", sa.Text, nullable=False),
    sa.Column("samples", sa.Integer, nullable=False),
    sa.Column("data", sa.LargeBinary, nullable=False),
)

state = sa.Table(
    "state",
    metadata,
    sa.Column("name", sa.Text, primary_key=True),
    sa.Column("value", sa.Text, nullable=False),
)

profile = sa.Table(
    "profile",
    metadata,
    sa.Column("name", sa.Text, primary_key=True),
    sa.Column("purpose", sa.Text, nullable=False),
    sa.Column("benchmark", sa.Text, nullable=False),
    sa.Column("setup", sa.Text, nullable=False),
    sa.Column("step", sa.Integer, sa.ForeignKey("step.number")),
    sa.Column("at", sa.Text, nullable=False),
)

plan = sa.Table(
    "plan",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("definition", sa.Text, nullable=False),
    sa.Column("start", sa.Text, nullable=False),
    sa.Column("started_at", sa.Text, nullable=False),
    sa.Column("started_s", sa.Float, nullable=False),
    sa.Column("ended_at", sa.Text),
    sa.Column("end", sa.Text),
    sa.Column("found", sa.Text),
)

plan_move = sa.Table(
    "plan_move",
    metadata,
    sa.Column("plan", sa.Integer, sa.ForeignKey("plan.id"), primary_key=True),
    sa.Column("number", sa.Integer, primary_key=True),
    sa.Column("words", sa.Text, nullable=False),
    sa.Column("attempt", sa.Integer),
    sa.Column("result", sa.Text),
)
