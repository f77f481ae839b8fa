"""alternates of frames, and frames that are taken out of their shoot"""

from alembic import op
import sqlalchemy as sa

revision = '0005'
down_revision = '0004'


def upgrade() -> None:
    with op.batch_alter_table('frame') as batch:
        batch.add_column(sa.Column('alternate', sa.Integer(), nullable=False, server_default='0'))
        batch.add_column(sa.Column('gone', sa.Boolean(), nullable=False, server_default=sa.false()))
        batch.drop_constraint('uq_frame_shoot_id', type_='unique')
        batch.create_unique_constraint('uq_frame_shoot_id', ['shoot_id', 'content', 'alternate'])


def downgrade() -> None:
    op.execute('DELETE FROM delivery_item WHERE frame_id IN (SELECT id FROM frame WHERE alternate > 0)')
    op.execute('DELETE FROM frame WHERE alternate > 0')
    with op.batch_alter_table('frame') as batch:
        batch.drop_constraint('uq_frame_shoot_id', type_='unique')
        batch.create_unique_constraint('uq_frame_shoot_id', ['shoot_id', 'content'])
        batch.drop_column('gone')
        batch.drop_column('alternate')
