"""Farm card: a TOML file that describes one farm."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from pathlib import Path
from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import AfterValidator, Field, field_validator, model_validator

from tidy_crate.core.context.rules import Country
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.farm.own_machines import ClusterAccess
from tidy_crate.core.farm.prices import MOST_SECONDS, CardPart, Hardware, Price, Prices, Priority, Submit, Words
from tidy_crate.core.files import read_input
from tidy_crate.core.money import Amount, Currency
from tidy_crate.core.schema import Schema
from tidy_crate.core.toml import read_toml
from tidy_crate.core.versions import NotComparable, Offered, parse_version
from tidy_crate.core.work.options import SendOptions

SUFFIX = ".farm.toml"


def _range(text: str) -> str:
    try:
        Offered.of([text])
    except NotComparable as error:
        raise ValueError(f"{error}; write 3.2, 3.2.*, '3.0 - 3.2' or '>=3.0, <3.3'") from error
    return text


def _version(text: str) -> str:
    try:
        parse_version(text)
    except NotComparable as error:
        raise ValueError(str(error)) from error
    return text


VersionText = Annotated[str, AfterValidator(_version)]
RangeText = Annotated[str, AfterValidator(_range)]
Positive = Annotated[float, Field(gt=0)]
QueueSeconds = Annotated[float, Field(ge=0, le=MOST_SECONDS)]


class SignIn(CardPart):
    """Location of the token, which is never in the card itself."""

    token_env: str | None = None
    token_file: str | None = None
    """Relative to the card."""
    keyring: bool = True
    """Name of the entry in the system's keyring."""


class PlaceAccess(CardPart):
    """Access to a file place, for farms without an interface for programs. Secrets never stand here."""

    user: str | None = None
    """Name to sign in with on an SFTP server."""
    key_file: str | None = None
    """Private key for an SFTP server; the agent's keys where neither this nor a password is used."""
    key_password: bool = False
    """True if the key has a password, which is then the token."""
    password: bool = False
    """True if the token is the password for an SFTP server."""
    known_hosts: str | None = None
    """File with the host keys of servers; the user's own `~/.ssh/known_hosts` where nothing is said."""
    endpoint: str | None = None
    """Address of an S3 service other than the usual one."""
    region: str | None = None
    archive: Literal["zip", "tar.zst"] = "zip"
    """Archive format of the crate."""
    rented: bool = False
    """True if its machines are rented by us, and paid for until they are shut down."""


class Reclaimable(CardPart):
    """Machines that the farm may take back at any moment, for less money."""

    price: float = Field(default=0.5, ge=0, le=1)
    """Factor on the price."""
    per_hour: float = Field(default=0.05, ge=0, le=60)
    """Number of times that a machine is taken back in an hour, on average. Its batch starts over on another one."""
    submit: Submit = Field(default_factory=Words)
    """For one's own machines: what the scheduler is told for them, as in `partition = "scavenge"`."""


class Machine(CardPart):
    """One machine class. Memory and disk are in powers of 1024."""

    name: str = Field(min_length=1)
    nodes: int = Field(ge=1, le=1_000_000)
    """Number of machines."""
    usually_free: tuple[int, int, int] | None = None
    """Number of them that one really gets at a time: few, usual, most. All of them where it is not said."""
    score: float = Field(ge=1e-6, le=1e9)
    """Speed, by the same benchmark as one's own machine's; with one GPU where `gpu_parallel` is said."""
    speeds: float = Field(default=0, ge=0, lt=1)
    """By which share the machines of the class differ in speed from each other: a standard deviation."""
    memory_gb: float = Field(gt=0)
    cores: int | None = Field(default=None, ge=1, le=4096)
    """Processor cores, for prices by the core."""
    gpus: int = Field(default=0, ge=0, le=1024)
    gpu_memory_gb: float | None = Field(default=None, gt=0)
    """Memory of each GPU."""
    gpu_parallel: float | None = Field(default=None, ge=0, le=1)
    """Share of a frame's work that all GPUs do together (Amdahl 1967); the rest is done by one."""
    devices: tuple[Literal["cpu", "gpu"], ...] = ()
    """Kinds of device that a renderer may use on it."""
    disk_gb: float | None = Field(default=None, gt=0)
    """Free for a crate and its frames."""
    price_per_hour: Amount | None = Field(default=None, ge=0)
    """Price of one machine; None where only the `[[price]]` tables of the card apply."""
    billing_increment_seconds: int = Field(default=1, ge=1, le=MOST_SECONDS)
    """For `price_per_hour`: times are rounded up to whole increments."""
    minimum_seconds: int = Field(default=0, ge=0, le=MOST_SECONDS)
    """For `price_per_hour`: least time that is billed for each machine."""
    startup_seconds: float = Field(default=0, ge=0, le=MOST_SECONDS)
    """From order to ready."""
    arrive_seconds: float = Field(default=0, ge=0, le=MOST_SECONDS)
    """Over which the machines of a job come one after another."""
    reclaimable: Reclaimable | None = None
    hosts: tuple[str, ...] = ()
    """Names of one's own machines that are of this class, with `*` and `?`: what they render is paid by its price."""
    submit: Submit = Field(default_factory=Words)
    """For one's own machines: what the scheduler is told for this class, as in `constraint = "rack-1"`."""
    failures: float = Field(default=0, ge=0, le=0.5)
    """Share of frames that fail on the first try and are rendered again by the farm."""

    @field_validator("memory_gb", "gpu_memory_gb")
    @classmethod
    def _gigabytes(cls, value: float | None) -> float | None:
        if value is not None and value > 32768:
            raise ValueError(f"{value:g} GB is more than any machine has: is it in megabytes?")
        return value

    @model_validator(mode="after")
    def _agrees(self) -> Machine:
        if "gpu" in self.devices and not self.gpus:
            raise ValueError(f"machine {self.name} offers the device gpu and has no gpus")
        return self

    @model_validator(mode="after")
    def _free(self) -> Machine:
        free = self.usually_free
        if free is not None and not (1 <= free[0] <= free[1] <= free[2] <= self.nodes):
            raise ValueError(f"usually_free of machine {self.name} goes up from 1 to {self.nodes} at most")
        return self

    @property
    def speed(self) -> float:
        """The score with all of its GPUs at work."""
        if self.gpu_parallel is None or self.gpus < 2:
            return self.score
        return self.score / ((1 - self.gpu_parallel) + self.gpu_parallel / self.gpus)

    @property
    def hardware(self) -> Hardware:
        """Return what prices look at."""
        return Hardware(self.name, self.speed, self.cores, self.gpus)

    @property
    def device_kinds(self) -> tuple[str, ...]:
        """Return what a renderer may use: as the card says, else by what is in the machine."""
        return self.devices or (("cpu", "gpu") if self.gpus else ("cpu",))


class Transfer(CardPart):
    """Speeds to and from the farm in megabits a second, and what it does with a crate before it starts, in seconds."""

    upload_mbit: float = Field(default=50, ge=1e-6)
    download_mbit: float = Field(default=50, ge=1e-6)
    processing_seconds: float = Field(default=0, ge=0, le=MOST_SECONDS)


class Program(CardPart):
    """A program that the nodes have."""

    name: str = Field(min_length=1)
    also: tuple[str, ...] = ()
    """Other names of it."""
    role: Literal["host", "renderer", "plugin"]
    versions: tuple[RangeText, ...] = Field(min_length=1)
    """Ranges of versions."""
    features: dict[str, VersionText] = Field(default_factory=dict)
    """First version of each feature."""
    passes: tuple[str, ...] = ()
    """For a renderer, the passes that it can write, with `*` and `?`; empty where the card does not say."""
    command: tuple[str, ...] = ()
    """For one's own machines: the command line that renders with it, with the placeholders of render commands."""
    version_command: tuple[str, ...] = ()
    """For one's own machines: the command line that prints its version."""
    licences: int | None = Field(default=None, ge=1, le=100_000)
    """For one's own machines: nodes that may render with it at a time."""

    @property
    def offered(self) -> Offered:
        """The versions, to compare with."""
        return Offered.of(self.versions)

    def is_called(self, name: str) -> bool:
        """Return whether it has this name; capitals do not count."""
        return name.casefold() in {one.casefold() for one in (self.name, *self.also)}


class OutputRules(CardPart):
    """Rules of a farm for outputs."""

    path: Literal["any", "name", "relative", "share"] = "any"
    """`any`; `name` only, without folders; `relative` to a folder of the farm's own; or on its `share`, whose path as
    nodes see it is then needed.
    """
    share: str | None = None
    formats: tuple[Annotated[str, Field(pattern=r"^[a-z0-9]+$")], ...] = ()
    """File extensions that it takes, all where none is named."""
    movies: bool = False
    """True if the farm assembles frames to a movie."""
    from_zero: bool = False
    """True if it numbers the frames of every job from zero."""
    negative_frames: bool = True
    """True if it takes negative frame numbers."""

    @model_validator(mode="after")
    def _agrees(self) -> OutputRules:
        if self.path == "share" and not self.share:
            raise ValueError("outputs go to a share, and no share is named: add share = '...' to [outputs]")
        return self


class Limits(CardPart):
    """Upper limits of a farm; None for no limit."""

    minutes_per_frame: Positive | None = None
    pixels: Annotated[int, Field(gt=0)] | None = None
    samples: Annotated[int, Field(gt=0)] | None = None
    frames: Annotated[int, Field(gt=0)] | None = None
    upload_gb: Positive | None = None
    nodes: Annotated[int, Field(ge=1)] | None = None
    """Machines that one job may have at a time."""
    path_length: Annotated[int, Field(gt=0)] | None = None
    """Characters, with the folder of the job."""


class Nodes(CardPart):
    """Facts common to all nodes."""

    system: Literal["linux", "windows", "macos"] | None = None
    fonts: tuple[str, ...] | None = None
    """Installed families, None while unknown."""
    unpacked_in: str = ""
    """Folder of the crates."""
    tiles: bool = True
    """True if a frame may be shared out in tiles."""
    lacks: tuple[str, ...] = ()
    """Features of scenes that the nodes do not have, in any version."""


class Operator(CardPart):
    """Operator of the nodes, and their location."""

    name: str = ""
    kind: Literal["own", "partner", "provider", "private"] | None = None
    """One's `own` machines, a `partner` studio's, a service `provider`'s, or `private` persons'."""
    places: tuple[Country, ...] = ()
    """Countries by ISO 3166."""
    agreement: bool = False
    """True if an agreement on confidentiality is signed."""


class Balance(CardPart):
    """Money on an account at the farm, on a day."""

    account: str = "main"
    amount: Amount
    on: date


class FarmCard(Prices):
    """One farm."""

    name: str = Field(pattern=r"^[a-z0-9][a-z0-9_-]{0,39}$")
    title: str = ""
    url: str = ""
    """Empty where there is no interface for programs."""
    identity: str = Field(default="", max_length=200)
    """The farm's own mark, where its address may change; else the address tells it from others of the same name."""
    insecure: bool = False
    """Allows an address that is not encrypted, for a network that is."""
    currency: Currency
    rates_from: date
    """The day of the prices."""
    practice: bool = False
    """True for a simulated farm, for which timings of the practice renderer will do."""
    sign_in: SignIn = SignIn()
    transfer: Transfer = Transfer()
    place: PlaceAccess = PlaceAccess()
    cluster: ClusterAccess = ClusterAccess()
    operator: Operator = Operator()
    nodes: Nodes = Nodes()
    outputs: OutputRules = OutputRules()
    limits: Limits = Limits()
    machine: tuple[Machine, ...] = Field(min_length=1)
    priority: tuple[Priority, ...] = ()
    """Ways to be served sooner or later; the first is the usual one."""
    queue_seconds: tuple[QueueSeconds, QueueSeconds, QueueSeconds] = (0, 0, 0)
    """Seconds that jobs wait before they begin: short, usual, long."""
    program: tuple[Program, ...] = ()
    balance: tuple[Balance, ...] = ()
    send: SendOptions = SendOptions()
    """Options at this farm where nothing else is said."""

    @model_validator(mode="after")
    def _names_once(self) -> FarmCard:
        for what, names in (
            ("machine class", [one.name for one in self.machine]),
            ("program", [one.name.casefold() for one in self.program]),
            ("account", [one.account for one in self.balance]),
            ("priority", [one.name for one in self.priority]),
        ):
            twice = next((name for name in names if names.count(name) > 1), None)
            if twice is not None:
                raise ValueError(f"the {what} {twice!r} is there twice")
        return self

    @model_validator(mode="after")
    def _every_machine_has_a_price(self) -> FarmCard:
        names = [one.name for one in self.machine]
        for price in self.price:
            unknown = next((name for name in price.machines if name not in names), None)
            if unknown is not None:
                raise ValueError(f"a price is for machine {unknown!r}, which the card does not have")
        if self.queue_seconds != tuple(sorted(self.queue_seconds)):
            raise ValueError("queue_seconds go up: short, usual, long")
        for machine in self.machine:
            prices = self.prices_of(machine)
            if not prices:
                raise ValueError(
                    f"machine {machine.name} has no price: add price_per_hour, or a [[price]] that applies"
                )
            if machine.cores is None and any(one.per == "core-hour" for one in prices):
                raise ValueError(f"machine {machine.name} is priced by the core: add cores = ...")
            if not machine.gpus and any(one.per == "gpu-hour" for one in prices):
                raise ValueError(f"machine {machine.name} is priced by the GPU: add gpus = ...")
        return self

    def prices_of(self, machine: Machine) -> tuple[Price, ...]:
        """Return all prices that apply to a machine class; they are added up."""
        own = () if machine.price_per_hour is None else (
            Price(per="machine-hour", amount=machine.price_per_hour,
                  increment_seconds=machine.billing_increment_seconds, minimum_seconds=machine.minimum_seconds),
        )  # fmt: skip
        return (*own, *(one for one in self.price if not one.machines or machine.name in one.machines))

    @property
    def site(self) -> str:
        """Return what tells this farm from any other, whatever the cards are called.

        Its own mark, else its address; its name where it has neither.
        """
        if self.identity:
            return f"identity {self.identity}"
        return address_of(self.url) or f"name {self.name}"

    @property
    def runs_scene_commands(self) -> bool:
        """Return whether nodes render by the command line that the scene brings: one's own machines without
        programs.
        """
        return self.cluster.shared is not None and not any(program.command for program in self.program)

    def priority_named(self, name: str | None) -> Priority:
        """Return a priority by name, the usual one when None. Raises WrongUsage on an unknown name."""
        if name is None:
            return self.priority[0] if self.priority else Priority(name="usual")
        found = next((one for one in self.priority if one.name == name), None)
        if found is None:
            known = ", ".join(one.name for one in self.priority) or "none"
            raise WrongUsage("the farm has no such priority", name, f"it has {known}")
        return found

    def machine_named(self, name: str | None) -> Machine:
        """A machine class by name, the first when None. Raises WrongUsage on an unknown name."""
        if name is None:
            return self.machine[0]
        found = next((one for one in self.machine if one.name == name), None)
        if found is None:
            raise WrongUsage(
                "the farm has no such machine class",
                name,
                "it has " + ", ".join(m.name for m in self.machine),
            )
        return found

    def program_called(self, name: str) -> Program | None:
        """A program by one of its names."""
        return next((one for one in self.program if one.is_called(name)), None)

    def account(self, name: str | None = None) -> Balance | None:
        """The balance of an account, the first when None; None where the card notes none."""
        found = [one for one in self.balance if name in (None, one.account)]
        return found[0] if found else None


def address_of(url: str) -> str:
    """Return an address in one spelling: scheme, host, port and path, without a user's name or a query.

    >>> address_of("HTTPS://Farm.example:443/api/")
    'https://farm.example/api'
    """
    try:
        parts = urlsplit(url)
        port = parts.port
    except ValueError:
        return url
    scheme = parts.scheme.lower()
    host = (parts.hostname or "").lower()
    if not scheme:
        return url
    usual = {"http": 80, "https": 443, "sftp": 22}.get(scheme)
    where = host if port in (None, usual) else f"{host}:{port}"
    return f"{scheme}://{where}{parts.path.rstrip('/')}"


# the first version has no earlier one
SCHEMA = Schema("farm card", "schema", 1)


def read_card(path: Path) -> FarmCard:
    """Read a card. Raises UnreadableInput that names the line, a wrong key and the nearest right one."""
    return read_toml(FarmCard, path, SCHEMA.what, SCHEMA)


def known_cards(folders: Iterable[Path]) -> list[Path]:
    """Return the farm cards in the folders, in the order of their paths."""
    return sorted(path for folder in folders for path in folder.glob(f"*{SUFFIX}"))


def known_farms(folders: Iterable[Path]) -> list[str]:
    """Return the names that `find_card` finds in the folders, each once."""
    return sorted({path.name.removesuffix(SUFFIX) for path in known_cards(folders)})


def find_card(name: str, folders: Iterable[Path]) -> Path:
    """A card by its path, or by its name in one of the folders, the first of which counts.

    Raises UnreadableInput when there is none, and WrongUsage when different ones have that name.
    """
    path = Path(name)
    if path.suffix == ".toml" or path.is_file():
        if not path.is_file():
            raise UnreadableInput("there is no such farm card", path, "check the path")
        return path.absolute()
    folders = tuple(folders)
    hits = [candidate for folder in folders if (candidate := folder / f"{name}{SUFFIX}").is_file()]
    if len({read_input(candidate) for candidate in hits}) > 1:
        # a card that came with a project must not take the place of the user's own
        listed = " and ".join(map(str, hits))
        raise WrongUsage(f"there are different farm cards called {name}", listed, "name the file of the one you mean")
    if hits:
        return hits[0]
    known = known_farms(folders)
    remedy = "known farms: " + ", ".join(known) if known else "name a card's file, or add one with farm add"
    raise UnreadableInput("no farm of that name is known", name, remedy)
