"""What servers say of themselves under load: requests running and waiting, and how full the cache is."""

import pandas as pd

from kettlefield.views.style import COLOURS, INK, Chart, add_legend, new_figure, sentences


def queues_under_load(frame: pd.DataFrame) -> Chart | None:
    """One panel a candidate; None where no server told a queue or a cache.

    Parameters
    ----------
    frame : data frame
        Columns candidate, at_s (since the session began), phase, running and waiting (requests), cache_use (share);
        what a server does not tell is missing. In order.
    """
    known = frame.dropna(subset=["running", "waiting", "cache_use"], how="all")
    if known.empty:
        return None
    names = list(dict.fromkeys(known["candidate"]))
    figure, axes = new_figure(rows=len(names), height_in=1.4 + 1.15 * len(names), squeeze=False, sharey=True)
    said = []
    for name, (each,) in zip(names, axes, strict=True):
        mine = known[known["candidate"] == name]
        at = mine["at_s"] - mine["at_s"].iloc[0]
        for column, colour in (("running", COLOURS[0]), ("waiting", COLOURS[1])):
            if mine[column].notna().any():
                each.plot(at, mine[column], color=colour, linewidth=1.0, marker=".", markersize=5, label=column)
        each.set_title(name, loc="left", fontsize=9, color=INK)
        each.set_ylabel("requests")
        if mine["cache_use"].notna().any():
            beside = each.twinx()
            beside.patch.set_alpha(0)
            beside.spines[["top", "left"]].set_visible(False)
            beside.tick_params(colors=INK, labelsize=9)
            beside.yaxis.label.set_color(INK)
            beside.fill_between(at, mine["cache_use"], color=COLOURS[2], alpha=0.25, linewidth=0)
            beside.set_ylim(0, 1.05)
            beside.yaxis.set_major_formatter(lambda value, _: f"{value:.0%}")
            beside.set_ylabel("cache")
        most = mine["waiting"].max() if mine["waiting"].notna().any() else None
        full = mine["cache_use"].max() if mine["cache_use"].notna().any() else None
        parts = [f"at most {most:.0f} waiting"] if most is not None else []
        parts += [f"cache at most {full:.0%} full"] if full is not None else []
        said.append(f"{name}: {', '.join(parts) or 'no queue told'}")
    highest = known[["running", "waiting"]].max().max()
    axes[0][0].set_ylim(0, 1.1 * float(highest) if highest > 0 else 1.0)  # shared by all
    axes[-1][0].set_xlabel("seconds since the load began")
    add_legend(axes[0][0])
    return Chart(
        name="queues-under-load",
        title="Queues and cache under load, as the servers themselves say",
        alt=sentences(said),
        finding=sentences(said),
        caption="Requests running and waiting (lines), share of the cache in use (shaded); two looks a second.",
        figure=figure,
    )
