"""Speed: distributions of TTFT and ITL, decode rate by context depth, throughput under load, load times."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pandas as pd

from kettlefield.core.statistics.intervals import quantile_interval
from kettlefield.results.capacity import Floor
from kettlefield.views.figures import findings
from kettlefield.views.style import (
    COLOURS,
    FAINT,
    INK,
    Chart,
    add_legend,
    head,
    label_ends,
    looks_of,
    model_of,
    new_chart,
    new_figure,
    note,
    rows_of,
    sentences,
)

MOST_BESIDE = 3  # panels in a row
POINTS = 300  # of a distribution: more would not be seen
_End = tuple[str, float, float]  # of a line: its name, x and y
_STYLES = ("-", "--", "-.", ":")


def spread(samples: Mapping[str, Sequence[float]], *, name: str, what: str, floor: Floor) -> Chart | None:
    """Middle and spread, one row a candidate, labelled where it stands; None without a sample.

    Parameters
    ----------
    samples : mapping
        Candidate -> values in seconds.
    name, what, floor
        As for ``distribution``.
    """
    known = {candidate: np.asarray(values, dtype=float) for candidate, values in samples.items() if len(values)}
    if not known:
        return None
    figure, axes = new_figure(height_in=1.1 + 0.34 * len(known))
    head(axes, what)
    words, looks = [], looks_of(known)
    for number, (candidate, values) in enumerate(known.items()):
        low, late = (float(np.quantile(values, q)) * 1000 for q in (0.05, 0.95))
        middle = quantile_interval(list(values), 0.5)
        colour = looks[candidate]["color"]
        axes.plot([low, late], [number, number], color=colour, linewidth=1.2)
        bounds = [bound * 1000 for bound in (middle.low, middle.high) if bound is not None]
        if len(bounds) == 2:
            axes.plot(bounds, [number, number], color=colour, linewidth=5, alpha=0.45, solid_capstyle="butt")
        axes.plot([middle.value * 1000], [number], **{**looks[candidate], "linestyle": ""})
        axes.plot([late], [number], marker="|", markersize=11, color=colour, linestyle="")
        words.append(f"{candidate}: median {middle.value * 1000:.3g} ms, 95 % below {late:.3g} ms, n = {len(values):,}")
    axes.set_yticks(range(len(known)), [f"{candidate} (n = {len(values):,})" for candidate, values in known.items()])
    axes.invert_yaxis()
    axes.grid(visible=False, axis="y")
    axes.grid(axis="x", color=FAINT, linewidth=0.6)
    axes.set_xlim(left=0)
    axes.set_xlabel("ms")
    return Chart(
        name=name,
        title=what,
        alt=sentences(words),
        finding=findings.slowest(known, floor),
        caption="Dot: median, with its 95 % interval as a band; line: 5 % to 95 % of the requests, the stroke at p95. "
        "One request at a time with nothing else running; samples that the host disturbed are left out.",
        figure=figure,
    )


def distribution(samples: Mapping[str, Sequence[float]], *, name: str, what: str, floor: Floor) -> Chart | None:
    """Empirical distributions, one line a candidate; None without a sample.

    Parameters
    ----------
    samples : mapping
        Candidate -> values in seconds.
    name : str
        Stem of the chart's files.
    what : str
        What is timed, for title and axis.
    floor : Floor
        Below which the finding shows no duration.
    """
    known = {
        candidate: np.sort(np.asarray(values, dtype=float)) for candidate, values in samples.items() if len(values)
    }
    if not known:
        return None
    from matplotlib.ticker import LogLocator, NullFormatter  # noqa: PLC0415

    figure, axes = new_chart(what)
    looks = looks_of(known)
    for number, (candidate, values) in enumerate(known.items()):
        shares = np.linspace(0, 1, min(POINTS, len(values)))
        axes.plot(
            np.quantile(values, shares, method="inverted_cdf") * 1000,
            shares,
            drawstyle="steps-post",
            linestyle=_STYLES[number // len(COLOURS) % len(_STYLES)],
            markevery=max(1, len(shares) // 6),
            label=f"{candidate} (n = {len(values):,})",
            linewidth=1.5,
            **looks[candidate],
        )
    axes.set_xscale("log")
    axes.xaxis.set_major_locator(LogLocator(subs=(1.0, 2.0, 5.0)))
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:g}")
    axes.xaxis.set_minor_formatter(NullFormatter())
    axes.set_xlabel("ms, logarithmic")
    axes.set_ylabel("share of samples")
    axes.set_ylim(0, 1.02)
    add_legend(axes, loc="upper left", bbox_to_anchor=(1.0, 1.0))
    return Chart(
        name=name,
        title=what,
        alt=sentences(
            f"{candidate}: median {np.median(values) * 1000:.3g} ms, "
            f"95 % below {np.quantile(values, 0.95) * 1000:.3g} ms, n = {len(values)}"
            for candidate, values in known.items()
        ),
        finding=findings.slowest(known, floor),
        caption="One request at a time with nothing else running; samples that the host disturbed are left out.",
        figure=figure,
    )


def decode_against_depth(frame: pd.DataFrame, *, floor_tps: float) -> Chart | None:
    """Decode rate as the context fills; None without a depth.

    Parameters
    ----------
    frame : data frame
        Columns candidate, depth_tokens, decode_tps: one row a request.
    floor_tps : float
        The plan's floor in tokens/s; 0: none.
    """
    if frame.empty:
        return None
    names = [str(name) for name in dict.fromkeys(frame["candidate"])]
    looks, models = looks_of(names), list(dict.fromkeys(map(model_of, names)))
    # small multiples: the levels of a model are compared, eight lines that cross are not
    figure, panels = new_figure(columns=min(len(models), MOST_BESIDE), rows=-(-len(models) // MOST_BESIDE),
                                height_in=4.2 * -(-len(models) // MOST_BESIDE), squeeze=False, sharey=True)  # fmt: skip
    words = []
    for axes, model in zip(panels.flat, models, strict=False):
        ends = []
        for candidate in (name for name in names if model_of(name) == model):
            rows = frame[frame["candidate"] == candidate]
            middles = rows.groupby("depth_tokens")["decode_tps"].median()
            every = {**looks[candidate], "markersize": 3, "alpha": 0.5, "linestyle": ""}
            axes.plot(rows["depth_tokens"], rows["decode_tps"], **every)
            axes.plot(middles.index, middles, label=candidate, **looks[candidate])
            ends.append((_level(candidate), float(middles.index[-1]), float(middles.iloc[-1])))
            words.append(
                f"{candidate}: {middles.iloc[0]:,.0f} tokens/s at {middles.index[0]:,.0f} tokens, "
                f"{middles.iloc[-1]:,.0f} at {middles.index[-1]:,.0f}"
            )
        head(axes, model)
        axes.set_ylim(0, 1.08 * float(frame["decode_tps"].max()))
        axes.set_xlim(0, 1.3 * float(frame["depth_tokens"].max()))  # room for the names
        label_ends(axes, ends)
        if floor_tps:
            axes.axhline(floor_tps, color=INK, linestyle="--", linewidth=1.2)
            note(axes, f"floor {floor_tps:g} tokens/s", (0, floor_tps))
        axes.set_xlabel("context filled to (tokens, as the server counts)")
        axes.xaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    for axes in list(panels.flat)[len(models) :]:
        axes.set_visible(False)
    panels.flat[0].set_ylabel("decode rate (tokens/s)")
    return Chart(
        name="decode-against-depth",
        title="Decode rate at each context depth",
        alt=sentences(words),
        finding=findings.fall_with_depth(frame),
        caption=f"Lines through the medians; every request is a dot, {len(frame)} in all.",
        figure=figure,
    )


def under_load(clients: pd.DataFrame, tries: pd.DataFrame, *, capacities: Mapping[str, float]) -> Chart | None:
    """Throughput of a closed loop, and TTFT of an open one as its rate rises; None without either.

    Parameters
    ----------
    clients : data frame
        Columns candidate, clients, rate_tps (of all together), saturation (bool).
    tries : data frame
        Columns candidate, rate_rps, ttft_p95_s, held (bool).
    capacities : mapping
        Candidate -> the highest rate that held, requests/s.
    """
    if clients.empty and tries.empty:
        return None
    names = list(dict.fromkeys(map(str, [*clients.get("candidate", []), *tries.get("candidate", [])])))
    looks, models = looks_of(names), list(dict.fromkeys(map(model_of, names)))
    kinds = [frame for frame in (clients, tries) if not frame.empty]
    # a model a row: the levels of a model are compared, and lines of several models cross
    figure, panels = new_figure(columns=len(kinds), rows=len(models), height_in=0.6 + 3.3 * len(models),
                                squeeze=False, sharex="col", sharey="col")  # fmt: skip
    ends = []
    for model, row in zip(models, panels, strict=True):
        for axes, kind in zip(row, kinds, strict=True):
            own = kind[kind["candidate"].map(model_of) == model]
            if kind is clients:
                head(axes, f"{model}: throughput (saturation point ringed)")
                ends.append((axes, _throughput(axes, own, looks), 1.25))
            else:
                head(axes, f"{model}: TTFT p95 (capacity dashed)")
                ends.append((axes, _ttft_by_rate(axes, own, looks, capacities), 1.9))
    for axes, names_there, room in ends:  # the panels share their axes, whose limits are known only now
        axes.set_ylim(bottom=0)
        axes.set_xlim(right=max(axes.get_xlim()[1], room * max((x for _, x, _ in names_there), default=0.0)))
        label_ends(axes, names_there)
    for axes, kind in zip(panels[-1], kinds, strict=True):
        in_flight = "concurrency (requests in flight)"
        axes.set_xlabel(in_flight if kind is clients else "random arrivals (requests/s, logarithmic)")
    best = clients.groupby("candidate", sort=False)["rate_tps"].max() if not clients.empty else pd.Series(dtype=float)
    words = [f"{candidate}: at most {rate:,.0f} tokens/s in all" for candidate, rate in best.items()]
    words += [f"{candidate} holds its limits up to {rate:g} requests/s" for candidate, rate in capacities.items()]
    return Chart(
        name="under-load",
        title="Throughput and latency under load",
        alt=sentences(words),
        finding=findings.load_limits(clients, capacities),
        caption="Throughput: a new request as soon as one ends. TTFT: requests arrive at random moments, and it counts "
        "from the scheduled one.",
        figure=figure,
    )


def _throughput(axes: Any, rows: pd.DataFrame, looks: Mapping[str, Mapping[str, Any]]) -> list[_End]:
    """A model's levels, and where their lines end: tokens/s of all requests together by how many are in flight."""
    ends = []
    for candidate, own in rows.groupby("candidate", sort=False):
        axes.plot(own["concurrency"], own["rate_tps"], label=str(candidate), **looks[str(candidate)])
        full = own[own["saturation"].astype(bool)]
        ring = {"markersize": 13, "markerfacecolor": "none", "markeredgecolor": INK}
        axes.plot(full["concurrency"], full["rate_tps"], "o", **ring)
        ends.append((_level(candidate), float(own["concurrency"].iloc[-1]), float(own["rate_tps"].iloc[-1])))
    axes.set_ylabel("tokens/s of all together")
    return ends


def _ttft_by_rate(
    axes: Any, rows: pd.DataFrame, looks: Mapping[str, Mapping[str, Any]], capacities: Mapping[str, float]
) -> list[_End]:
    """A model's levels, and where their lines end: TTFT at the 95th percentile as the rate rises."""
    ends = []
    for candidate, own in rows.groupby("candidate", sort=False):
        look, ordered = looks[str(candidate)], own.sort_values("rate_rps").dropna(subset=["ttft_p95_s"])
        axes.plot(ordered["rate_rps"], ordered["ttft_p95_s"] * 1000, label=str(candidate), **look)
        if capacities.get(str(candidate)):
            axes.axvline(capacities[str(candidate)], color=look["color"], linestyle="--", linewidth=1.2)
        if len(ordered):
            last = ordered.iloc[-1]
            ends.append((_level(candidate), float(last["rate_rps"]), 1000 * float(last["ttft_p95_s"])))
    axes.set_ylabel("TTFT p95 (ms)")
    axes.set_xscale("log", base=2)
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:g}")
    return ends


def _level(candidate: object) -> str:
    return str(candidate).partition("@")[2]


def loads_and_ceilings(loads: pd.DataFrame, ceilings: pd.DataFrame) -> Chart | None:
    """Time until a server is ready, and the share of the rate that bandwidth allows; None without either.

    Parameters
    ----------
    loads : data frame
        Columns candidate, kind ("cold", "warm", "as found"), load_s.
    ceilings : data frame
        Columns candidate, share (decode rate over what bandwidth allows).
    """
    if loads.empty and ceilings.empty:
        return None
    figure, axes = new_figure(columns=2, height_in=1.7 + 0.34 * max(loads["candidate"].nunique(), len(ceilings)))
    left, right = axes
    names = list(dict.fromkeys([*loads["candidate"], *ceilings["candidate"]]))[::-1]
    kinds = list(dict.fromkeys(loads["kind"]))
    for number, kind in enumerate(kinds):
        rows = loads[loads["kind"] == kind].groupby("candidate")["load_s"].first()
        height = 0.8 / len(kinds)
        places = [names.index(name) + 0.4 - height * (number + 0.5) for name in rows.index]
        hatch = ("", "//", "..")[number % 3]
        left.barh(
            places, list(rows), height=height * 0.9, color=COLOURS[number], label=kind, hatch=hatch, edgecolor="white"
        )
    head(left, "Load time")
    left.set_xlabel("started until ready (s)")
    left.set_yticks(range(len(names)), names)
    if kinds:
        add_legend(left, loc="upper left", bbox_to_anchor=(0.0, -0.14), ncols=len(kinds))
    right.barh(
        [names.index(name) for name in ceilings["candidate"]], list(ceilings["share"]), height=0.5, color=COLOURS[2]
    )
    head(right, "Decode rate over what bandwidth allows")
    right.set_xlabel("median decode rate over its ceiling (share)")
    right.set_yticks(range(len(names)), [""] * len(names))
    for each in (left, right):
        each.grid(visible=False, axis="y")
        each.set_ylim(-0.6, len(names) - 0.4)
    words = [f"{row.candidate} ready after {row.load_s:.2f} s ({row.kind})" for row in rows_of(loads)]
    words += [f"{row.candidate} decodes at {row.share:.0%} of its ceiling" for row in rows_of(ceilings)]
    return Chart(
        name="loads-and-ceilings",
        title="Load times, and decode rate beside what bandwidth allows",
        alt=sentences(words),
        finding=findings.loading(loads, ceilings),
        caption="Cold: the weights' pages were dropped from the page cache first. Ceiling: bandwidth over the bytes "
        "that one token reads, with an empty cache.",
        figure=figure,
    )
