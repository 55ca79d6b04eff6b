"""The trial that others are told against, and what a recipe was before a trial's was taken over"""

import sqlalchemy as sa
from alembic import op

revision = '0008'
down_revision = '0007'


def upgrade() -> None:
    op.add_column('jobs', sa.Column('base', sa.Integer(), nullable=True))
    op.add_column('recipes', sa.Column('before', sa.JSON(), nullable=False, server_default='{}'))


def downgrade() -> None:
    op.drop_column('recipes', 'before')
    op.drop_column('jobs', 'base')
