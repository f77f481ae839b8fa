"""shoots that are put away"""

from alembic import op
import sqlalchemy as sa

revision = '0006'
down_revision = '0005'


def upgrade() -> None:
    with op.batch_alter_table('shoot', schema=None) as batch_op:
        batch_op.add_column(sa.Column('away', sa.Boolean(), nullable=False, server_default='0'))


def downgrade() -> None:
    with op.batch_alter_table('shoot', schema=None) as batch_op:
        batch_op.drop_column('away')
