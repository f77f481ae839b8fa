"""a change writes only what it touches of a frame's narrow row, and whatever the Sheet shows is a change; frames by set and by file"""

from alembic import op

revision = '0010'
down_revision = '0009'

PRESETS = "(SELECT group_concat(value ->> '$.name', char(10)) FROM json_each(new.worn))"
# what changes of a frame: what it is in the narrow row
PARTS = {
    'stars, label, verdict': {'stars': 'new.stars', 'label': 'new.label', 'verdict': 'new.verdict'},
    'own, worn, offsets, follows': {
        'follows': 'new.follows',
        'profile': """json_extract(new.own, '$."profile.camera"')""",
        'presets': PRESETS,
        'has_areas': """new.own LIKE '%"areas/%'""",
        'has_spots': """new.own LIKE '%"spots/%'""",
        'developed': "new.own != '{}' OR new.worn != '[]' OR new.offsets != '{}'",
    },
    'seen, measured': {
        'chart': "json_extract(new.seen, '$.chart') IS NOT NULL",
        'bracket': "json_extract(new.seen, '$.bracket') IS NOT NULL",
        'sharp': "json_extract(new.measured, '$.sharp')",
    },
    'place, starting, as_shot, content': {},
}
REST = 'gone, shoot_id, set_id, name, taken, camera, lens, iso, facts, width, height, alternate, error, keywords'
ALL = ', '.join([REST, *list(PARTS)[:3]])


def _whole(watched: str) -> None:
    """The trigger that writes all of a row, told of `watched` alone."""
    bind = op.get_bind()
    old = bind.exec_driver_sql("SELECT sql FROM sqlite_master WHERE name = 'frame_facet_changed'").scalar_one()
    before, rest = old.split(' UPDATE OF ', 1)
    op.execute('DROP TRIGGER frame_facet_changed')
    bind.exec_driver_sql(f'{before} UPDATE OF {watched} ON frame{rest.split(" ON frame", 1)[1]}')


def upgrade() -> None:
    # The frames of a set, and of a file: asked for by these alone in many places.
    for column in ('set_id', 'path'):
        op.create_index(f'ix_frame_{column}', 'frame', [column])
    _whole(REST)
    for number, (watched, values) in enumerate(PARTS.items()):
        tick = 'tick = (SELECT coalesce(max(tick), 0) + 1 FROM frame_facet)'
        told = ', '.join([tick, *(f'{column} = {sql}' for column, sql in values.items())])
        op.get_bind().exec_driver_sql(
            f'CREATE TRIGGER frame_facet_part_{number} AFTER UPDATE OF {watched} ON frame '
            f'BEGIN UPDATE frame_facet SET {told} WHERE frame_id = new.id; END'
        )


def downgrade() -> None:
    for column in ('set_id', 'path'):
        op.drop_index(f'ix_frame_{column}', 'frame')
    for number in range(len(PARTS)):
        op.execute(f'DROP TRIGGER frame_facet_part_{number}')
    _whole(ALL)
