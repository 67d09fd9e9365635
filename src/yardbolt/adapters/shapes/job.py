"""The shape of yard.yaml."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from .base import Address, Day, Flag, Foreign, KeyPrint, Name, Network, PortNumber, Shape, SourceList, Text, UnitClass


class SegmentShape(Shape):
    network: Network
    gateway: Address | None = None
    administrators: SourceList
    monitoring: SourceList = []
    laptop: Address
    laptop_also: Address | None = Field(None, alias="laptop also", description="its address of the other family")
    stranger: Address | None = None
    stranger_also: Address | None = Field(None, alias="stranger also", description="one of the other family")
    stands_in_for: list[Address] = Field(
        [],
        alias="stands in for",
        description="administrators and monitoring stations whose addresses this laptop holds too today, to try that "
        "they get in",
    )


class AccountShape(Shape):
    rights: Name = Field(description="full, change, read, or a role of this file, on units that know roles")
    whose: Text
    until: Day | None = None
    keys: list[KeyPrint] = Field([], description="fingerprints of the SSH keys that may open it, SHA256:...")
    codes_to: Text = Field(
        "",
        alias="codes to",
        description="the mailbox codes are sent to that it is asked for with its password, where a unit can; "
        "set here, switched on once a test mail has arrived",
    )
    by: Literal["snmp"] | None = Field(
        None, description="snmp: it is a user of SNMP where SNMP is needed (RFC 3414), and logs in nowhere"
    )


class GoesToShape(Shape):
    at: Text = Field(description="its new address, with prefix length: 192.0.2.7/24")
    segment: Name = Field(description="the segment it is in then; its laptop address is the one this laptop has for it")
    through: Address | None = Field(None, description="its gateway there")


class UnitShape(Shape):
    family: Name
    segment: Name
    at: Address
    also_at: Address | None = Field(
        None, alias="also at", description="its address of the other family, IPv6 beside IPv4"
    )
    class_: Name | None = Field(None, alias="class")
    serial: Text = ""
    hardware: Text = ""
    ports: dict[Name, PortNumber] = {}
    login: Name | None = None
    note: Text = ""
    outdated: Flag = Field(
        False, description="it may be spoken to by outdated TLS or SSH (RFC 8996, RFC 9142), where it has nothing else"
    )
    support_code_noted: Text = Field(
        "", alias="support code noted", description="where the code by which its maker helps was noted"
    )
    goes_to: GoesToShape | None = Field(None, alias="goes to", description="where it is moved to, last of all")


class AllowsShape(Shape):
    restart: Flag = False
    remove_factory_accounts: Flag = Field(False, alias="remove factory accounts")
    remove_foreign: list[Foreign] = Field(
        [],
        alias="remove foreign",
        description="what nobody knows and may be ended, after a copy: accounts, keys, jobs, or the path of a file",
    )
    drop_edits: Flag = Field(
        False,
        alias="drop edits",
        description="what somebody staged on a unit and never put in force, once it is on record",
    )
    terms: Text = Field("", description="who accepts licence terms for the owner; empty = nobody")


class ServerShape(Shape):
    kind: Literal["time", "logs", "login"]
    at: Address
    here: Flag = True


class WaiverShape(Shape):
    rule: Name
    unit: Text = "*"
    reason: Text
    owner: Text
    until: Day


class SafeShape(Shape):
    file: Text = "safe.kdbx"
    copy_: Text = Field("", alias="copy", description="where the second copy lies")
    without_copy: Text = Field("", alias="without copy", description="the reason why there is no second copy")


class JobShape(Shape):
    """yard.yaml: one piece of work."""

    job: Text
    owner: Text
    technician: Text
    baseline: Name = "hand-tight"
    segments: dict[Name, SegmentShape] = Field(min_length=1)
    accounts: dict[Name, AccountShape] = {}
    needs: dict[UnitClass, list[Name]] = Field(
        {}, description="services needed, by class of unit; `all` is every class"
    )
    monitored_by: list[Name] = Field(
        ["snmp"], alias="monitored by", description="the services monitoring stations look by"
    )
    banner: Text = ""
    roles: dict[Name, dict[Name, Literal["none", "read", "change"]]] = Field(
        {}, description="roles of the owner's own: what each may do, by the areas of the units that know roles"
    )
    alerts: list[Text] = Field([], description="who units write to when something is wrong")
    servers: list[ServerShape] = []
    allows: AllowsShape = AllowsShape()
    waivers: list[WaiverShape] = []
    safe: SafeShape = SafeShape()
    units: dict[Name, UnitShape] = Field(min_length=1)
