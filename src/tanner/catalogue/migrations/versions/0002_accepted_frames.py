"""frames that are accepted as they are, with a reason"""

from alembic import op
import sqlalchemy as sa

revision = '0002'
down_revision = '0001'


def upgrade() -> None:
    with op.batch_alter_table('frame', schema=None) as batch_op:
        batch_op.add_column(sa.Column('accepted', sa.String(), nullable=False, server_default=''))


def downgrade() -> None:
    with op.batch_alter_table('frame', schema=None) as batch_op:
        batch_op.drop_column('accepted')
