"""words of shoots and frames, what a delivery was asked for besides its specs"""

from alembic import op
import sqlalchemy as sa

revision = '0004'
down_revision = '0003'

COLUMNS = (
    ('shoot', sa.Column('words', sa.JSON(), nullable=False, server_default='{}')),
    ('frame', sa.Column('words', sa.JSON(), nullable=False, server_default='{}')),
    ('delivery', sa.Column('options', sa.JSON(), nullable=False, server_default='{}')),
)


def upgrade() -> None:
    for table, column in COLUMNS:
        op.add_column(table, column)
    op.create_index('ix_delivery_item_delivery_state', 'delivery_item', ['delivery_id', 'state'])
    # "stopped" said both: that it may go on, and that it was over.
    op.execute("UPDATE delivery SET state = 'paused' WHERE state = 'stopped'")


def downgrade() -> None:
    op.drop_index('ix_delivery_item_delivery_state', 'delivery_item')
    op.execute("UPDATE delivery SET state = 'stopped' WHERE state IN ('paused', 'cancelled')")
    for table, column in COLUMNS:
        op.drop_column(table, column.name)
