"""Every kind of setting of a Linux computer: one line an adapter."""

from lumtak.computers.linux.adapter import Adapter
from lumtak.computers.linux.autostart import Autostart
from lumtak.computers.linux.clock_plan import ClockPlan
from lumtak.computers.linux.clutter import SystemClutters, UserClutters
from lumtak.computers.linux.effect_channels import ChannelIdle, DesktopChannels
from lumtak.computers.linux.effect_files import EffectFiles, FileIdle
from lumtak.computers.linux.effects import DesktopEffects, DesktopIdle, DesktopUpkeep
from lumtak.computers.linux.memory_settings import MemorySettings
from lumtak.computers.linux.profile_plan import ProfilePlan
from lumtak.computers.linux.sandboxes import Sandboxes
from lumtak.computers.linux.services import Services
from lumtak.computers.linux.swap import Swap
from lumtak.computers.linux.tool_clutter import ToolClutters
from lumtak.computers.linux.upkeep_files import SystemUpkeep, UpkeepFiles
from lumtak.computers.linux.user_units import UserUnits
from lumtak.computers.linux.watch import Watching
from lumtak.computers.linux.wireless import Wireless

ADAPTERS: tuple[type[Adapter], ...] = (
    Services,
    UserUnits,
    Sandboxes,
    Autostart,
    EffectFiles,
    DesktopChannels,
    DesktopEffects,
    FileIdle,
    ChannelIdle,
    DesktopIdle,
    Wireless,
    ProfilePlan,
    ClockPlan,
    Swap,
    MemorySettings,
    UserClutters,
    SystemClutters,
    ToolClutters,
    UpkeepFiles,
    SystemUpkeep,
    Watching,
    DesktopUpkeep,
)
"""Of those of one area, the first that has a setting keeps it."""
