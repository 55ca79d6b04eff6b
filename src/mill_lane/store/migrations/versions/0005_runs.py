"""Renders by their run; the run sheet that is being filled in is the job's"""

import sqlalchemy as sa
from alembic import op

revision = '0005'
down_revision = '0004'


def upgrade() -> None:
    # All that the pages of a long run count and order by: the wide rows are not read for it.
    op.create_index(
        'renders_by_group', 'renders', ['group_id', 'frame', 'removed', 'picture', 'task_id']
    )
    op.add_column(
        'jobs', sa.Column('run_sheet', sa.JSON(), nullable=False, server_default='{}')
    )
    op.execute(
        "UPDATE jobs SET run_sheet = (SELECT settings FROM render_groups AS g"
        " WHERE g.job_id = jobs.id AND g.kind = 'sheet')"
        " WHERE id IN (SELECT job_id FROM render_groups WHERE kind = 'sheet')"
    )
    op.execute("DELETE FROM render_groups WHERE kind = 'sheet'")


def downgrade() -> None:
    op.execute(
        "INSERT INTO render_groups (job_id, kind, number, settings, created, removed)"
        " SELECT id, 'sheet', 1, run_sheet, created, 0 FROM jobs WHERE run_sheet != '{}'"
    )
    op.drop_column('jobs', 'run_sheet')
    op.drop_index('renders_by_group', 'renders')
