"""The electronic data sheet (CiA 306) of the contract."""

import io
from configparser import ConfigParser

from oarlock.drive.contract.entries import CONTRACT, GROUPS, Entry, Group, Type

_DATE, _TIME = "11-26-2026", "09:00AM"
_U8, _U16, _U32 = Type.U8.code, Type.U16.code, Type.U32.code
_Row = tuple[str, int, str, str]  # name, type, access, default
_MAPPED = ((0x05, 0x06), (0x07, 0x01, 0x02, 0x09, 0x08), (0x0A, 0x0B, 0x0C))  # subs of 0x2000
_BITS = {Type.REAL32: 32, Type.U32: 32, Type.U16: 16, Type.I16: 16, Type.U8: 8, Type.I8: 8}


def eds(groups: tuple[Group, ...] = GROUPS) -> str:
    """Return the whole file."""
    sheet = ConfigParser(interpolation=None)
    sheet.optionxform = str  # type: ignore[assignment,method-assign]
    _head(sheet)
    mandatory, optional = [0x1000, 0x1001, 0x1018], [0x1010, 0x1011, 0x1014, 0x1016, 0x1017]
    optional += [base + n for base in (0x1800, 0x1A00) for n in range(3)]
    for title, objects in (("Mandatory", mandatory), ("Optional", optional),
                           ("Manufacturer", [group.index for group in groups])):  # fmt: skip
        listed = {"SupportedObjects": str(len(objects))}
        listed |= {str(n): f"0x{index:04X}" for n, index in enumerate(objects, 1)}
        sheet[f"{title}Objects"] = listed
    _standard(sheet)
    for group in sorted(groups, key=lambda g: g.index):
        _group(sheet, group)
    out = io.StringIO()
    sheet.write(out, space_around_delimiters=False)
    return out.getvalue().rstrip("\n") + "\n"


def _head(sheet: ConfigParser) -> None:
    sheet["FileInfo"] = {
        "FileName": "oarlock.eds", "FileVersion": "1", "FileRevision": "1", "EDSVersion": "4.0",
        "Description": "What Oarlock asks of a drive", "CreationTime": _TIME,
        "CreationDate": _DATE, "CreatedBy": "The Oarlock authors", "ModificationTime": _TIME,
        "ModificationDate": _DATE, "ModifiedBy": "The Oarlock authors",
    }  # fmt: skip
    rates = {f"BaudRate_{r}": str(int(r in (125, 250, 500, 1000)))
             for r in (10, 20, 50, 125, 250, 500, 800, 1000)}  # fmt: skip
    sheet["DeviceInfo"] = {
        "VendorName": "Oarlock", "VendorNumber": "0x0", "ProductName": "Drive interface",
        "ProductNumber": "0x1", "RevisionNumber": f"0x{CONTRACT:X}", "OrderCode": "0", **rates,
        "SimpleBootUpMaster": "0", "SimpleBootUpSlave": "1", "Granularity": "8",
        "DynamicChannelsSupported": "0", "GroupMessaging": "0", "NrOfRXPDO": "0",
        "NrOfTXPDO": "3", "LSS_Supported": "0",
    }  # fmt: skip
    sheet["DummyUsage"] = {f"Dummy000{n}": "0" for n in range(1, 8)}


def _standard(sheet: ConfigParser) -> None:
    """Write the communication objects of CiA 301 that the contract uses."""
    _variable(sheet, "1000", ("Device type", _U32, "ro", "0x0"))
    _variable(sheet, "1001", ("Error register", _U8, "ro", "0x0"))
    for index, name in ((0x1010, "Store parameters"), (0x1011, "Restore parameters")):
        _record(sheet, index, name, [("All", _U32, "rw", "1")])
    _variable(sheet, "1014", ("COB-ID EMCY", _U32, "ro", "$NODEID+0x80"))
    _record(sheet, 0x1016, "Consumer heartbeat time", [("Client", _U32, "rw", "0x007F0032")])
    _variable(sheet, "1017", ("Producer heartbeat time", _U16, "rw", "100"))
    _record(sheet, 0x1018, "Identity", [
        ("Vendor-ID", _U32, "ro", "0x0"), ("Product code", _U32, "ro", "0x1"),
        ("Revision number", _U32, "ro", f"0x{CONTRACT:X}"), ("Serial number", _U32, "ro", "0x0"),
    ])  # fmt: skip
    drive = GROUPS[0]
    for n, subs in enumerate(_MAPPED):
        _record(sheet, 0x1800 + n, f"TPDO {n + 1} communication", [
            ("COB-ID", _U32, "ro", f"$NODEID+0x{0x180 + 0x100 * n:X}"),
            ("Transmission type", _U8, "ro", "0xFF"), ("Inhibit time", _U16, "ro", "0"),
            ("Reserved", _U8, "ro", "0"), ("Event timer", _U16, "rw", "20"),
        ])  # fmt: skip
        mapped = [(sub, _BITS[drive.entries[sub - 1].type]) for sub in subs]
        _record(sheet, 0x1A00 + n, f"TPDO {n + 1} mapping", [
            (f"Mapped {i}", _U32, "ro", f"0x2000{sub:02X}{bits:02X}")
            for i, (sub, bits) in enumerate(mapped, 1)
        ])  # fmt: skip


def _group(sheet: ConfigParser, group: Group) -> None:
    if group.single:
        entry = group.entries[0]
        kind = "0x2" if entry.type is Type.DOMAIN else "0x7"
        _variable(sheet, f"{group.index:04X}", _row(entry, group.name), kind)
        return
    _record(sheet, group.index, group.name, [_row(e, e.name) for e in group.entries],
            mapped=[e.mapped for e in group.entries])  # fmt: skip


def _row(entry: Entry, name: str) -> _Row:
    default = "" if entry.type is Type.DOMAIN else f"{entry.default:g}"
    return name, entry.type.code, entry.access, default


def _record(
    sheet: ConfigParser, index: int, name: str, rows: list[_Row], mapped: list[bool] | None = None
) -> None:
    at = f"{index:04X}"
    sheet[at] = {"ParameterName": name, "ObjectType": "0x9", "SubNumber": str(len(rows) + 1)}
    _variable(sheet, f"{at}sub0", ("Highest sub-index supported", _U8, "ro", str(len(rows))))
    for n, row in enumerate(rows, 1):
        _variable(sheet, f"{at}sub{n:X}", row, mapped=bool(mapped and mapped[n - 1]))


def _variable(
    sheet: ConfigParser, at: str, row: _Row, kind: str = "0x7", *, mapped: bool = False
) -> None:
    name, data, access, default = row
    sheet[at] = {
        "ParameterName": name, "ObjectType": kind, "DataType": f"0x{data:04X}",
        "AccessType": access, "DefaultValue": default, "PDOMapping": str(int(mapped)),
    }  # fmt: skip
