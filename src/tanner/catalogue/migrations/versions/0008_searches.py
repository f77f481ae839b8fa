"""what searches need: narrow rows, full text and keywords, kept by the database; searches and collections that are kept"""

from alembic import op
import sqlalchemy as sa

revision = '0008'
down_revision = '0007'

LINES = "(SELECT group_concat({of}, char(10)) FROM json_each({{t}}.{column}))"
FACETS = {
    'gone': (sa.Boolean(), False, '{t}.gone'),
    'shoot_id': (sa.Integer(), False, '{t}.shoot_id'),
    'set_id': (sa.Integer(), True, '{t}.set_id'),
    'name': (sa.String(), False, '{t}.name'),
    'taken': (sa.DateTime(), True, '{t}.taken'),
    'month': (sa.String(), True, 'substr({t}.taken, 1, 7)'),
    'verdict': (sa.String(), False, '{t}.verdict'),
    'stars': (sa.Integer(), False, '{t}.stars'),
    'label': (sa.String(), False, '{t}.label'),
    'camera': (sa.String(), False, '{t}.camera'),
    'lens': (sa.String(), False, '{t}.lens'),
    'iso': (sa.Integer(), True, '{t}.iso'),
    'focal': (sa.Float(), True, "json_extract({t}.facts, '$.focal_length_mm')"),
    'aperture': (sa.Float(), True, "json_extract({t}.facts, '$.aperture')"),
    'shutter': (sa.Float(), True, "json_extract({t}.facts, '$.exposure_s')"),
    'upright': (sa.Boolean(), False, '{t}.height > {t}.width'),
    'follows': (sa.Boolean(), False, '{t}.follows'),
    'alternate': (sa.Integer(), False, '{t}.alternate'),
    'error': (sa.Boolean(), False, "{t}.error != ''"),
    'profile': (sa.String(), True, """json_extract({t}.own, '$."profile.camera"')"""),
    'presets': (sa.String(), True, LINES.format(of="value ->> '$.name'", column='worn')),
    'keywords': (sa.String(), True, LINES.format(of='value', column='keywords')),
    'has_areas': (sa.Boolean(), False, """{t}.own LIKE '%"areas/%'"""),
    'has_spots': (sa.Boolean(), False, """{t}.own LIKE '%"spots/%'"""),
    'developed': (sa.Boolean(), False, "{t}.own != '{{}}' OR {t}.worn != '[]' OR {t}.offsets != '{{}}'"),
    'chart': (sa.Boolean(), False, "json_extract({t}.seen, '$.chart') IS NOT NULL"),
    'bracket': (sa.Boolean(), False, "json_extract({t}.seen, '$.bracket') IS NOT NULL"),
    'sharp': (sa.Float(), True, "json_extract({t}.measured, '$.sharp')"),
}
WATCHED = (
    'gone, shoot_id, set_id, name, taken, verdict, stars, label, camera, lens, iso, facts, width, height, follows, alternate, error, '
    'own, worn, offsets, keywords, seen, measured'
)

SAID = """coalesce((SELECT group_concat(value, ' ') FROM json_each({{t}}.words) WHERE key {keys}), '')"""
CAPTION = SAID.format(keys="IN ('headline', 'caption')")
PLACE = SAID.format(keys="IN ('sublocation', 'city', 'region', 'country')")
REST = SAID.format(keys="NOT IN ('headline', 'caption', 'sublocation', 'city', 'region', 'country')")
FACET_INTO = (
    f"INSERT OR REPLACE INTO frame_facet(frame_id, tick, {', '.join(FACETS)}) "
    f"SELECT {{t}}.id, {{tick}}, {', '.join(sql for _, _, sql in FACETS.values())}"
)
FILL = {
    'frame_facet': FACET_INTO,
    'frame_text': f"""INSERT INTO frame_text(rowid, name, caption, place, words, keywords, gear) SELECT {{t}}.id, {{t}}.name,
        {CAPTION}, {PLACE}, {REST}, (SELECT group_concat(value, ' ') FROM json_each({{t}}.keywords)), {{t}}.camera || ' ' || {{t}}.lens""",
    'shoot_text': f"""INSERT INTO shoot_text(rowid, name, caption, place, words) SELECT {{t}}.id, {{t}}.name, {CAPTION}, {PLACE},
        {{t}}.creator || ' ' || {REST}""",
    'set_text': 'INSERT INTO set_text(rowid, name) SELECT {t}.id, {t}.name',
    'frame_keyword': """INSERT OR IGNORE INTO frame_keyword(frame_id, keyword)
        SELECT {t}.id, k.value FROM {kept}json_each({t}.keywords) k""",
}
# table: the table it is told of, its columns where it is full text, what changes it, and its key
TABLES = {
    'frame_facet': ('frame', '', WATCHED, 'frame_id'),
    'frame_text': ('frame', 'name, caption, place, words, keywords, gear', 'name, words, keywords, camera, lens', 'rowid'),
    'shoot_text': ('shoot', 'name, caption, place, words', 'name, words, creator', 'rowid'),
    'set_text': ('frame_set', 'name', 'name', 'rowid'),
    'frame_keyword': ('frame', '', 'keywords', 'frame_id'),
}


def _named(table: str, *columns: sa.Column, **foreign: str) -> None:
    """A table with its keys named as the models name them."""
    keys = [
        sa.ForeignKeyConstraint([c], [f'{to}.id'], name=op.f(f'fk_{table}_{c}_{to}'), ondelete='CASCADE' if c != 'parent_id' else None)
        for c, to in foreign.items()
    ]
    primary = [c.name for c in columns if c.primary_key]
    for column in columns:
        column.primary_key = False
    op.create_table(table, *columns, *keys, sa.PrimaryKeyConstraint(*primary, name=op.f(f'pk_{table}')))


def upgrade() -> None:
    op.add_column('frame', sa.Column('measured', sa.JSON(), nullable=False, server_default='{}'))
    op.add_column('shoot', sa.Column('recipe', sa.JSON(), nullable=False, server_default='{}'))
    op.add_column('frame', sa.Column('trashed', sa.JSON(), nullable=False, server_default='[]'))
    op.create_index('ix_delivery_item_frame_state', 'delivery_item', ['frame_id', 'state'])
    whole, some, text = sa.Integer, sa.Float, sa.String
    _named(
        'frame_facet',
        sa.Column('frame_id', whole(), primary_key=True, nullable=False),
        sa.Column('tick', whole(), nullable=False),
        *(sa.Column(name, kind, nullable=null) for name, (kind, null, _) in FACETS.items()),
        frame_id='frame',
    )
    op.create_index('ix_frame_facet_time', 'frame_facet', ['gone', 'taken', 'name'])
    op.create_index('ix_frame_facet_shoot', 'frame_facet', ['shoot_id', 'gone', 'taken', 'name'])
    for column in ('tick', 'set_id', 'camera', 'lens'):
        op.create_index(f'ix_frame_facet_{column}', 'frame_facet', [column])
    _named(
        'frame_keyword',
        sa.Column('frame_id', whole(), primary_key=True, nullable=False),
        sa.Column('keyword', text(), primary_key=True, nullable=False),
        frame_id='frame',
    )
    op.create_index('ix_frame_keyword_keyword', 'frame_keyword', ['keyword'])
    _named(
        'keyword',
        sa.Column('id', whole(), primary_key=True, nullable=False),
        sa.Column('name', text(), nullable=False),
        sa.Column('parent_id', whole(), nullable=True),
        sa.Column('synonyms', sa.JSON(), nullable=False),
        parent_id='keyword',
    )
    op.create_index('ix_keyword_parent_id', 'keyword', ['parent_id'])
    _named(
        'standing_search',
        sa.Column('id', whole(), primary_key=True, nullable=False),
        sa.Column('name', text(), nullable=False),
        sa.Column('expression', text(), nullable=False),
        sa.Column('sort', text(), nullable=False),
    )
    _named(
        'collection',
        sa.Column('id', whole(), primary_key=True, nullable=False),
        sa.Column('name', text(), nullable=False),
        sa.Column('created', sa.DateTime(), nullable=False),
    )
    _named(
        'gathered',
        sa.Column('collection_id', whole(), primary_key=True, nullable=False),
        sa.Column('frame_id', whole(), primary_key=True, nullable=False),
        sa.Column('place', some(), nullable=False),
        collection_id='collection',
        frame_id='frame',
    )
    op.create_index('ix_gathered_frame_id', 'gathered', ['frame_id'])
    for table in ('keyword', 'standing_search', 'collection'):
        with op.batch_alter_table(table) as batch:
            batch.create_unique_constraint(op.f(f'uq_{table}_name'), ['name'])
    _kept_by_the_database()


def _kept_by_the_database() -> None:
    """Whoever writes, in whatever way: these tables stay true by triggers."""
    for table, (source, columns, watched, key) in TABLES.items():
        if columns:
            op.execute(
                f"CREATE VIRTUAL TABLE {table} USING fts5({columns}, prefix='1 2 3', tokenize='unicode61 remove_diacritics 2')"
            )
        asked = FILL[table].format(t=source, kept=f'{source}, ', tick=f'{source}.id')
        op.execute(asked if table == 'frame_keyword' else f'{asked} FROM {source}')
        fill = FILL[table].format(t='new', kept='', tick='(SELECT coalesce(max(tick), 0) + 1 FROM frame_facet)')
        op.execute(f'CREATE TRIGGER {table}_added AFTER INSERT ON {source} BEGIN {fill}; END')
        # A row that is replaced keeps nothing of the old one; all else is taken out first.
        clear = '' if table == 'frame_facet' else f'DELETE FROM {table} WHERE {key} = new.id; '
        op.execute(f'CREATE TRIGGER {table}_changed AFTER UPDATE OF {watched} ON {source} BEGIN {clear}{fill}; END')
        op.execute(f'CREATE TRIGGER {table}_gone AFTER DELETE ON {source} BEGIN DELETE FROM {table} WHERE {key} = old.id; END')


def downgrade() -> None:
    for table, (_, columns, _, _) in TABLES.items():
        for when in ('added', 'changed', 'gone'):
            op.execute(f'DROP TRIGGER {table}_{when}')
        if columns:
            op.execute(f'DROP TABLE {table}')
    for table in ('gathered', 'collection', 'standing_search', 'keyword', 'frame_keyword', 'frame_facet'):
        op.drop_table(table)
    op.drop_index('ix_delivery_item_frame_state', 'delivery_item')
    op.drop_column('shoot', 'recipe')
    op.drop_column('frame', 'trashed')
    op.drop_column('frame', 'measured')
