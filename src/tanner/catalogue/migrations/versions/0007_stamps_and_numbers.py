"""when a frame's file was last known to be the one that came in; numbers that are none leave the catalogue"""

import json
import math

from alembic import op
import sqlalchemy as sa

revision = '0007'
down_revision = '0006'

JSON_COLUMNS = {
    'shoot': ('preset', 'words'),
    'frame': ('facts', 'starting', 'as_shot', 'descriptor', 'keywords', 'own', 'offsets', 'worn', 'seen', 'words'),
    'patch': ('before', 'after'),
    'delivery': ('specs', 'options'),
    'delivery_item': ('settings',),
}


def _plain(value):
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, dict):
        return {k: _plain(v) for k, v in value.items()}
    if isinstance(value, list):
        return [_plain(v) for v in value]
    return value


def upgrade() -> None:
    op.add_column('frame', sa.Column('stamp', sa.String(), nullable=False, server_default=''))
    connection = op.get_bind()
    for table, columns in JSON_COLUMNS.items():
        for column in columns:
            query = f"SELECT id, {column} FROM {table} WHERE {column} LIKE '%NaN%' OR {column} LIKE '%Infinity%'"
            for number, text in connection.exec_driver_sql(query).all():
                value = json.dumps(_plain(json.loads(text)), allow_nan=False)
                connection.exec_driver_sql(f"UPDATE {table} SET {column} = ? WHERE id = ?", (value, number))


def downgrade() -> None:
    op.drop_column('frame', 'stamp')
