"""where a frame stands when frames are ordered by hand"""

from alembic import op
import sqlalchemy as sa

revision = '0009'
down_revision = '0008'


def upgrade() -> None:
    # Not in a batch, which would copy the table and lose the triggers that keep what searches need.
    op.add_column('frame', sa.Column('place', sa.Float(), nullable=True))


def downgrade() -> None:
    op.drop_column('frame', 'place')
