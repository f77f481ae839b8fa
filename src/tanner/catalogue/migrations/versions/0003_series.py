"""presets that frames wear, what a frame was recognised as, sets under another set's lead, sidecars"""

from alembic import op
import sqlalchemy as sa

revision = '0003'
down_revision = '0002'

# Added one by one, not by copying tables: rows that others point to could not be dropped meanwhile.
COLUMNS = (
    ('frame', sa.Column('worn', sa.JSON(), nullable=False, server_default='[]')),
    ('frame', sa.Column('seen', sa.JSON(), nullable=False, server_default='{}')),
    ('frame', sa.Column('sidecar', sa.String(), nullable=False, server_default='')),
    ('frame_set', sa.Column('under_id', sa.Integer(), nullable=True)),
    ('shoot', sa.Column('sidecars', sa.Boolean(), nullable=False, server_default=sa.false())),
)


def upgrade() -> None:
    for table, column in COLUMNS:
        op.add_column(table, column)


def downgrade() -> None:
    for table, column in COLUMNS:
        op.drop_column(table, column.name)
