"""presets that frames wear, what a frame was recognised as, sets under another set's lead, sidecars"""

from alembic import op
import sqlalchemy as sa

revision = '0003'
down_revision = '0002'


def upgrade() -> None:
    with op.batch_alter_table('frame', schema=None) as batch_op:
        batch_op.add_column(sa.Column('worn', sa.JSON(), nullable=False, server_default='[]'))
        batch_op.add_column(sa.Column('seen', sa.JSON(), nullable=False, server_default='{}'))
        batch_op.add_column(sa.Column('sidecar', sa.String(), nullable=False, server_default=''))
    with op.batch_alter_table('frame_set', schema=None) as batch_op:
        batch_op.add_column(sa.Column('under_id', sa.Integer(), nullable=True))
    with op.batch_alter_table('shoot', schema=None) as batch_op:
        batch_op.add_column(sa.Column('sidecars', sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    with op.batch_alter_table('shoot', schema=None) as batch_op:
        batch_op.drop_column('sidecars')
    with op.batch_alter_table('frame_set', schema=None) as batch_op:
        batch_op.drop_column('under_id')
    with op.batch_alter_table('frame', schema=None) as batch_op:
        for name in ('sidecar', 'seen', 'worn'):
            batch_op.drop_column(name)
