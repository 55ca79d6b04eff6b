"""Profiles, pictures of layers and previews of trials; tasks that can be paused and told where to
look first
"""

import sqlalchemy as sa
from alembic import op

revision = '0002'
down_revision = '0001'


def upgrade() -> None:
    with op.batch_alter_table('trials') as t:
        t.add_column(sa.Column('profile', sa.JSON(), nullable=False, server_default='{}'))
        t.add_column(sa.Column('layers', sa.JSON(), nullable=False, server_default='{}'))
        t.add_column(sa.Column('preview', sa.JSON(), nullable=False, server_default='{}'))
    with op.batch_alter_table('tasks') as t:
        t.add_column(sa.Column('wants', sa.JSON(), nullable=False, server_default='{}'))


def downgrade() -> None:
    with op.batch_alter_table('tasks') as t:
        t.drop_column('wants')
    with op.batch_alter_table('trials') as t:
        t.drop_column('preview')
        t.drop_column('layers')
        t.drop_column('profile')
