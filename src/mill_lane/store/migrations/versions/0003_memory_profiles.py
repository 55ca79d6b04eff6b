"""Memory profiles of other renderers, and the trials made with them"""

import sqlalchemy as sa
from alembic import op

revision = '0003'
down_revision = '0002'


def upgrade() -> None:
    op.create_table(
        'memory_profiles',
        sa.Column('id', sa.Integer(), primary_key=True),
        sa.Column('data', sa.JSON(), nullable=False),
        sa.Column('decided', sa.JSON(), nullable=False),
        sa.Column('removed', sa.Boolean(), nullable=False),
    )
    op.create_table(
        'logged_trials',
        sa.Column('id', sa.Integer(), primary_key=True),
        sa.Column('profile_id', sa.Integer(), sa.ForeignKey('memory_profiles.id'), nullable=False),
        sa.Column('data', sa.JSON(), nullable=False),
        sa.Column('created', sa.DateTime(), nullable=False),
        sa.Column('removed', sa.Boolean(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table('logged_trials')
    op.drop_table('memory_profiles')
