"""What goes first: when a job was looked at last, and tasks that were put first by hand"""

import sqlalchemy as sa
from alembic import op

revision = '0007'
down_revision = '0006'


def upgrade() -> None:
    op.add_column('jobs', sa.Column('looked_at', sa.Double(), nullable=False, server_default='0'))
    op.add_column('tasks', sa.Column('turn', sa.Double(), nullable=False, server_default='0'))


def downgrade() -> None:
    op.drop_column('tasks', 'turn')
    op.drop_column('jobs', 'looked_at')
