"""Trials that are marked to be kept"""

import sqlalchemy as sa
from alembic import op

revision = '0009'
down_revision = '0008'


def upgrade() -> None:
    op.add_column(
        'renders', sa.Column('starred', sa.Boolean(), nullable=False, server_default='0')
    )


def downgrade() -> None:
    op.drop_column('renders', 'starred')
