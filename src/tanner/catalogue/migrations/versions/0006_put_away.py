"""shoots that are put away"""

from alembic import op
import sqlalchemy as sa

revision = '0006'
down_revision = '0005'


def upgrade() -> None:
    op.add_column('shoot', sa.Column('away', sa.Boolean(), nullable=False, server_default='0'))


def downgrade() -> None:
    op.drop_column('shoot', 'away')
