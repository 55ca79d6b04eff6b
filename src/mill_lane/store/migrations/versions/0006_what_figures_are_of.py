"""What the figures of a scene version are of: a mark of its analysis, the size it was made for"""

import sqlalchemy as sa
from alembic import op

revision = '0006'
down_revision = '0005'


def upgrade() -> None:
    op.add_column(
        'scene_versions', sa.Column('analysis_mark', sa.String(), nullable=False, server_default='')
    )
    op.execute("UPDATE scene_versions SET analysis_mark = lower(hex(randomblob(10)))")
    op.add_column(
        'scene_versions', sa.Column('made_for', sa.Integer(), nullable=False, server_default='0')
    )
    op.add_column(
        'trim_list', sa.Column('made_for', sa.Integer(), nullable=False, server_default='0')
    )
    op.add_column(
        'jobs', sa.Column('delivered_height', sa.Integer(), nullable=False, server_default='1080')
    )
    # What was asked for until now is the best that is known of what will be delivered.
    op.execute(
        "UPDATE jobs SET delivered_height = max(1080, coalesce((SELECT"
        " json_extract(r.data, '$.height') FROM recipes AS r"
        " WHERE r.job_id = jobs.id AND r.chosen = 'final'), 0))"
    )


def downgrade() -> None:
    op.drop_column('jobs', 'delivered_height')
    op.drop_column('trim_list', 'made_for')
    op.drop_column('scene_versions', 'made_for')
    op.drop_column('scene_versions', 'analysis_mark')
