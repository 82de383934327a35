"""Pictures on the screen: what was drawn before leaves no trace, and kept texts look as if set anew."""

from functools import partial

import numpy as np
from matplotlib.backends.backend_agg import FigureCanvasAgg, RendererAgg
from matplotlib.figure import Figure
from matplotlib.transforms import Bbox

from anchor_tally.app.views import VIEWS
from anchor_tally.figures import precision, which_device
from anchor_tally.figures.forms import FORMS
from anchor_tally.figures.style import LIGHT, empty, mark_of, use_fonts
from anchor_tally.ui.canvas import FigureView
from anchor_tally.ui.text_renderer import TextRenderer
from driving import shown


def test_a_picture_is_the_same_whatever_was_drawn_before(qtbot, window_on, demo, monkeypatch):
    """Every picture of the demo study, drawn where another was, equals pixel by pixel the one on new axes."""
    paints = {}
    redraw = FigureView.redraw

    def noted(view, paint, palette, content):
        paints[
            f"{view.accessibleName()}"
            f" {len(paints) if view.accessibleName() == 'Difference plot' else ''}"
        ] = partial(paint, palette=palette), view
        redraw(view, paint, palette, content)

    monkeypatch.setattr(FigureView, "redraw", noted)
    window = window_on(demo)
    with qtbot.waitSignal(window.compare.formed, timeout=30_000):
        window.compare.choose_form("ratio")
    for key, _ in FORMS[2:]:
        window.compare.choose_form(key)
    for key in (*(v.key for v in VIEWS[1:]), "drift", "calibrate", "track", "review"):
        shown(qtbot, window.page(key), lambda key=key: window.go(key))

    def pixels(figure):
        figure.canvas.draw()
        return np.array(figure.canvas.buffer_rgba())

    def fresh():
        figure = Figure(figsize=(4, 3))
        FigureCanvasAgg(figure)
        figure.subplots_adjust(0.3, 0.2, 0.97, 0.9)
        return figure, figure.add_subplot()

    again, axes = fresh()
    rude = paints[
        next(name for name in paints if name.startswith("Correlations"))
    ]  # square, anchored, without ticks
    timed = paints[next(name for name in paints if name.startswith("One client"))]
    checked: list[str] = []
    for name, (paint, view) in paints.items():
        figure, new = fresh()
        paint(new, view.family)
        alone = pixels(figure)
        for before in (rude, timed)[: 1 + (len(checked) % 4 == 0)]:
            empty(axes)
            before[0](axes, view.family)
            pixels(again)
            empty(axes)
            assert axes.get_legend() is None  # the picture before may have had one
            paint(axes, view.family)
            assert np.array_equal(pixels(again), alone), name
        checked.append(name)
    assert len(checked) >= 14


def test_devices_without_any_error_are_drawn():
    """All errors are 0, as of values that were copied: the axis still has a length."""
    axes = Figure().add_subplot()
    copied = (which_device.Dot(0.0, 0.0, 0.0, None),)
    what = which_device.JobInfo(("Fir",), (copied,), (False,), (True,), {}, "error")
    which_device.draw(axes, what, (mark_of(0, LIGHT),), LIGHT, use_fonts(), named=True)
    assert axes.get_xlim() == (0.0, 1.0)
    axes = Figure().add_subplot()
    line = ("1 repeat", (0.0, 0.0))
    plan = precision.PrecisionInfo((1, 2), (line,), 0.0, None, "half-width")
    precision.draw(axes, plan, LIGHT, use_fonts())
    assert axes.get_ylim() == (0.0, 1.0)


def test_kept_texts_look_as_set_anew():
    """A text from the store lies where Agg sets it, in its colour and as strong, and is cut where the picture is cut."""
    figure = Figure()
    prop = figure.text(0, 0, "x", fontsize=11).get_fontproperties()

    def page(kind, alpha, clip=None):
        renderer = kind(160, 60, 100.0)
        gc = renderer.new_gc()
        gc.set_foreground((0.7, 0.2, 0.1, alpha), isRGBA=True)
        if clip is not None:
            gc.set_clip_rectangle(clip)
        renderer.draw_text(gc, 12.0, 40.0, "Quägga −1.8", prop, 0.0)
        return np.array(renderer.buffer_rgba()).astype(float)

    for alpha in (1.0, 0.4):
        ours, agg = page(TextRenderer, alpha), page(RendererAgg, alpha)
        assert abs(ours[..., 3].sum() / agg[..., 3].sum() - 1) < 0.02
        for axis in (0, 1):
            centre = [
                np.average(np.arange(p.shape[axis]), weights=p[..., 3].sum(1 - axis))
                for p in (ours, agg)
            ]
            assert abs(centre[0] - centre[1]) < 0.6
        inked = ours[..., 3] > 60 * alpha
        assert np.abs(ours[inked][:, :3].mean(0) - [178.5, 51, 25.5]).max() < 6
    half = page(TextRenderer, 1.0, Bbox.from_bounds(0, 0, 50, 60))
    assert not half[:, 51:, 3].any()
    assert half[:, :50, 3].any()


def test_a_picture_that_fails_holds_up_no_other(qtbot):
    """The next one in the queue is drawn all the same, and the queue is empty after it."""
    views = [FigureView(name, (40, 10, 40, 10)) for name in "ab"]
    for view in views:
        qtbot.addWidget(view)
        view.resize(200, 150)
        view.show()
    qtbot.waitUntil(FigureView.all_drawn)
    with qtbot.captureExceptions() as caught:
        views[0].redraw(lambda axes, _family, _palette: axes.no_such_thing(), LIGHT)
        views[1].redraw(lambda axes, _family, _palette: axes.plot([0, 1], [0, 1]), LIGHT)
        qtbot.waitUntil(FigureView.all_drawn)
    assert [type(e[1]) for e in caught] == [AttributeError]
    assert len(views[1].axes.lines) == 1
