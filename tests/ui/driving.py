"""Doing something in the window and waiting until it is done."""

from anchor_tally.app.session import Session


def shown(qtbot, page, action):
    """Do something and wait until the page has its answer."""
    with qtbot.waitSignal(page.shown, timeout=60_000):
        action()


def previewed(qtbot, window, path):
    """Open a table for import and wait for its preview."""
    with qtbot.waitSignal(window.importing.previewed, timeout=60_000):
        window.import_file(path)


def select(table, row):
    """Select a row as the arrow keys do."""
    table.setCurrentIndex(table.model().index(row, 0))


def choose_client(record, code):
    """Name a client at the bench."""
    record.client.setEditText(code)
    record.bar.choose_client()
    if record.bar.new == code:  # nobody has it yet: the second Enter
        record.bar.choose_client()
    if record.safety.isVisible():  # asked before the first impedance reading
        record.safety.buttons["none"].click()


def kept(window):
    """What is in the file, read through another connection."""
    other = Session.open(window.session.path, read_only=True)
    rows = other.readings()
    other.close()
    return rows
