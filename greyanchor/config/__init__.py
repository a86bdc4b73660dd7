"""Settings, urls, the wsgi application and the processes of the `greyanchor` command."""
