"""Passes and results that were discarded, caveats and edited notes, and files kept as proof."""

import sqlalchemy as sa
from alembic import op

revision = "4"
down_revision = "3"


def upgrade() -> None:
    """Bring schema version 3 to version 4."""
    for table in ("pass", "result"):
        op.add_column(table, sa.Column("discarded", sa.Text, nullable=False, server_default=""))
    op.add_column("note", sa.Column("caveat", sa.Boolean, nullable=False, server_default="0"))
    op.add_column("note", sa.Column("edited_at", sa.Text, nullable=False, server_default=""))
    op.create_table(
        "attachment",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("step", sa.Integer, sa.ForeignKey("step.number"), nullable=False, index=True),
        sa.Column("at", sa.Text, nullable=False),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("sha256", sa.Text, nullable=False),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
