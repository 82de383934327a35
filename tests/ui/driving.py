"""Doing something in the window and waiting until it is done."""


def shown(qtbot, page, action):
    """Do something and wait until the page has its answer."""
    with qtbot.waitSignal(page.shown, timeout=10_000):
        action()


def previewed(qtbot, window, path):
    """Open a table for import and wait for its preview."""
    with qtbot.waitSignal(window.importing.previewed, timeout=10_000):
        window.import_file(path)
