"""A channel as text: what each form means, and what is wrong about one that means nothing."""

from pathlib import Path

import pytest

from oarlock.drive.bridge import mend
from oarlock.drive.channel import SOCKET, Channel, parse_channel
from oarlock.drive.finder import _can_interfaces, state_of
from oarlock.errors import InputError


@pytest.mark.parametrize(
    ("text", "options", "again"),
    [
        ("can0", {"interface": "socketcan", "channel": "can0"}, "socketcan:can0"),
        (" socketcan:can1  node 9", {"interface": "socketcan", "channel": "can1"},
         "socketcan:can1 node 9"),
        ("slcan:/dev/ttyACM0@500000", {"interface": "slcan", "channel": "/dev/ttyACM0",
                                       "bitrate": 500000}, "slcan:/dev/ttyACM0@500000"),
        ("slcan:/dev/ttyACM0", {"interface": "slcan", "channel": "/dev/ttyACM0",
                                "bitrate": 1000000}, "slcan:/dev/ttyACM0@1000000"),
        ("socketcand:bench.local:29537/can1 node 3",
         {"interface": "socketcand", "host": "bench.local", "port": 29537, "channel": "can1"},
         "socketcand:bench.local:29537/can1 node 3"),
        ("socketcand:10.0.0.2/can0", {"interface": "socketcand", "host": "10.0.0.2",
                                      "port": 29536, "channel": "can0"},
         "socketcand:10.0.0.2/can0"),
        ("udp_multicast:239.74.163.2", {"interface": "udp_multicast", "channel": "239.74.163.2",
                                        "fd": False}, "udp_multicast:239.74.163.2"),
        ("udp_multicast:239.1.2.3:4711", {"interface": "udp_multicast", "channel": "239.1.2.3",
                                          "fd": False, "port": 4711},
         "udp_multicast:239.1.2.3:4711"),
    ],
)  # fmt: skip
def test_each_form(text: str, options: dict[str, object], again: str) -> None:
    channel = parse_channel(text)
    assert channel.options() == options
    assert channel.text == again
    assert parse_channel(again) == channel


def test_a_path_is_a_local_socket() -> None:
    channel = parse_channel("/run/user/1000/oarlock/winch.sock")
    assert (channel.interface, channel.name) == ("socket", "practice drive")


@pytest.mark.parametrize(
    ("text", "cause"),
    [
        ("", "no interface is named"),
        ("node 3", "no interface is called|no interface is named"),
        ("carrier_pigeon:3", "no interface is called 'carrier_pigeon'"),
        ("can0 node 0", "node 0"),
        ("can0 node 127", "node 127"),
        ("can0 node x", "'x' is no node"),
        ("slcan:/dev/ttyACM0@fast", "'fast' is no bitrate"),
        ("slcan:/dev/ttyACM0@3", "a bitrate of 3"),
        ("slcan:", "slcan of what"),
    ],
)
def test_what_means_nothing_is_told(text: str, cause: str) -> None:
    with pytest.raises(InputError, match=cause) as caught:
        parse_channel(text)
    assert caught.value.remedy


@pytest.mark.parametrize(
    ("channel", "cause", "remedy"),
    [
        (Channel(interface="socketcan", address="can0"), "[Errno 100] Network is down",
         "sudo ip link set can0 up type can bitrate 1000000"),
        (Channel(interface="socketcan", address="can3"), "No such device", "ip link"),
        (Channel(interface="slcan", address="/dev/ttyACM0"), "Permission denied", "dialout"),
        (Channel(interface="slcan", address="/dev/ttyACM0"), "could not open port", "by-id"),
        (Channel(interface="slcan", address="/dev/ttyACM0"), "Device or resource busy", "fuser"),
        (Channel(interface=SOCKET, address="/dev/shm/drive"), "No such file", "Start the drive"),
        (Channel(interface="socketcand", address="h/can0"), "Connection refused", "host and port"),
        (Channel(interface="usb2can", address="x"), "No module named 'win32'", "pip"),
    ],
)  # fmt: skip
def test_each_failure_names_what_mends_it(channel: Channel, cause: str, remedy: str) -> None:
    assert remedy in mend(channel, cause).line


def test_only_can_interfaces_of_the_machine_are_named(tmp_path: Path) -> None:
    for name, kind in (("can1", "280\n"), ("eth0", "1\n"), ("can0", "280\n")):
        (tmp_path / name).mkdir()
        (tmp_path / name / "type").write_text(kind)
    (tmp_path / "gone").mkdir()
    assert _can_interfaces(tmp_path) == ["can0", "can1"]
    assert _can_interfaces(tmp_path / "none") == []


_UP = ('[{"ifname":"can0","flags":["UP"],"linkinfo":{"info_data":'
       '{"state":"%s","bittiming":{"bitrate":500000}}}}]')  # fmt: skip


def test_the_state_of_an_interface() -> None:
    assert state_of(_UP % "ERROR-ACTIVE") == (True, "0.5 Mbit/s", None)
    up, said, mending = state_of(_UP % "ERROR-PASSIVE")
    assert up
    assert "another bitrate" in said
    assert mending is not None
    assert mending.command.startswith("sudo ip link")
    up, said, mending = state_of(_UP % "BUS-OFF")
    assert not up
    assert "off the bus" in said
    up, said, mending = state_of('[{"ifname":"can1","flags":["NOARP"],"linkinfo":{}}]')
    assert (up, said) == (False, "is down")
    assert mending is not None
    assert mending.command == "sudo ip link set can1 up type can bitrate 1000000"
    assert state_of("nonsense") == (True, "", None)
    assert state_of("[]") == (True, "", None)
