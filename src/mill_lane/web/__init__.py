"""The interface:

routes by station, presenters that turn what is kept into what is shown, templates, static files.
"""
