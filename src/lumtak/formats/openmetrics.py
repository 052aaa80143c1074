"""A reading as OpenMetrics text (OpenMetrics 1.0): gauges for whoever collects them."""

from lumtak.core.reading import Reading
from lumtak.core.record import NotMeasured
from lumtak.core.text import plain

_GAUGES = {
    "cpu_ratio": (
        "cpu_pct",
        0.01,
        "Share of the processors that was busy, mean over the settled window.",
    ),
    "iowait_ratio": ("iowait_pct", 0.01, "Share of the processors that waited for I/O."),
    "steal_ratio": ("steal_pct", 0.01, "Share of the processors that a host took."),
    "work_cores": ("work", 1.0, "Busy core-seconds per second at the nominal clock."),
    "ram_used_bytes": ("ram_used_bytes", 1.0, "Memory in use: total minus available."),
    "cache_bytes": ("cache_bytes", 1.0, "Cache: given back when asked for."),
    "swap_used_bytes": ("swap_used_bytes", 1.0, "Swap in use."),
    "disk_busy_ratio": ("disk_busy_pct", 0.01, "Share of the time for which the disk was busy."),
    "pressure_cpu_ratio": (
        "pressure_cpu_pct",
        0.01,
        "Share of the time for which a task waited for a processor.",
    ),
    "pressure_memory_ratio": (
        "pressure_memory_pct",
        0.01,
        "Share of the time for which a task waited for memory.",
    ),
    "pressure_io_ratio": (
        "pressure_io_pct",
        0.01,
        "Share of the time for which a task waited for I/O.",
    ),
    "own_cpu_ratio": ("own_pct", 0.01, "What Lumtak itself took; left out of the others."),
}


def to_openmetrics(reading: Reading) -> str:
    """Means over the settled window, and each consumer's cost.

    What was not measured is left out, as the format wants it.
    """
    labels = f'computer="{_label(reading.computer)}"'
    lines: list[str] = []
    for name, (column, scale, about) in _GAUGES.items():
        value = reading.figure(column)
        if not isinstance(value, NotMeasured):
            lines += [
                f"# TYPE lumtak_{name} gauge",
                f"# HELP lumtak_{name} {about}",
                f"lumtak_{name}{{{labels}}} {value * scale:.9g}",
            ]
    lines += [
        "# TYPE lumtak_consumer_cpu_ratio gauge",
        "# HELP lumtak_consumer_cpu_ratio Share of the processors a consumer took.",
    ]
    lines += [
        f'lumtak_consumer_cpu_ratio{{{labels},consumer="{_label(c.key)}"}} {c.cpu_pct / 100:.9g}'
        for c in reading.consumers
    ]
    lines += [
        "# TYPE lumtak_consumer_ram_bytes gauge",
        "# HELP lumtak_consumer_ram_bytes Memory a consumer held.",
    ]
    lines += [
        f'lumtak_consumer_ram_bytes{{{labels},consumer="{_label(c.key)}"}} {c.ram_bytes:.9g}'
        for c in reading.consumers
        if not isinstance(c.ram_bytes, NotMeasured)
    ]
    return "\n".join([*lines, "# EOF"]) + "\n"


def _label(text: str) -> str:
    return plain(text).replace("\\", "\\\\").replace('"', '\\"')
