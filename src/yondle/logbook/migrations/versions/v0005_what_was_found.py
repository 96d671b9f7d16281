"""What a plan's run found when it ended (edges with their probabilities), and what showed a failure, by ids."""

import sqlalchemy as sa
from alembic import op

revision = "5"
down_revision = "4"


def upgrade() -> None:
    """Bring schema version 4 to version 5."""
    op.add_column("plan", sa.Column("found", sa.Text))
    op.add_column("attempt", sa.Column("seen", sa.Text))
