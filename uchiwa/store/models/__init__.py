"""The tables as peewee models, by what they belong to. The migrations make them; a test compares the two."""

from __future__ import annotations

from uchiwa.store.models.base import Base as Base
from uchiwa.store.models.calibrations import ControllerImage as ControllerImage
from uchiwa.store.models.calibrations import Draft as Draft
from uchiwa.store.models.calibrations import Event as Event
from uchiwa.store.models.calibrations import Revision as Revision
from uchiwa.store.models.calibrations import RevisionImage as RevisionImage
from uchiwa.store.models.calibrations import StoredCalibration as StoredCalibration
from uchiwa.store.models.channels import ComputedChannel as ComputedChannel
from uchiwa.store.models.channels import KeptArrangement as KeptArrangement
from uchiwa.store.models.fields import LongBlobField as LongBlobField
from uchiwa.store.models.fields import LongTextField as LongTextField
from uchiwa.store.models.fields import MediumBlobField as MediumBlobField
from uchiwa.store.models.fields import blob as blob
from uchiwa.store.models.jobs import BriefPattern as BriefPattern
from uchiwa.store.models.jobs import Car as Car
from uchiwa.store.models.jobs import Customer as Customer
from uchiwa.store.models.jobs import CustomerLink as CustomerLink
from uchiwa.store.models.jobs import DemoPart as DemoPart
from uchiwa.store.models.jobs import Job as Job
from uchiwa.store.models.jobs import JobNote as JobNote
from uchiwa.store.models.jobs import Message as Message
from uchiwa.store.models.jobs import Round as Round
from uchiwa.store.models.live import LiveEvent as LiveEvent
from uchiwa.store.models.live import LiveOverlay as LiveOverlay
from uchiwa.store.models.live import LiveSession as LiveSession
from uchiwa.store.models.logs import ChannelChunk as ChannelChunk
from uchiwa.store.models.logs import ChannelLevel as ChannelLevel
from uchiwa.store.models.logs import ChannelMemory as ChannelMemory
from uchiwa.store.models.logs import Estimate as Estimate
from uchiwa.store.models.logs import FoundInLog as FoundInLog
from uchiwa.store.models.logs import LogChannel as LogChannel
from uchiwa.store.models.logs import LogFile as LogFile
from uchiwa.store.models.logs import LogNote as LogNote
from uchiwa.store.models.logs import LogRawChunk as LogRawChunk
from uchiwa.store.models.logs import PullNote as PullNote
from uchiwa.store.models.logs import WorkerBeat as WorkerBeat
from uchiwa.store.models.mails import Mail as Mail
from uchiwa.store.models.people import Attempt as Attempt
from uchiwa.store.models.people import AuditEntry as AuditEntry
from uchiwa.store.models.people import Flash as Flash
from uchiwa.store.models.people import OneTimeLink as OneTimeLink
from uchiwa.store.models.people import Passkey as Passkey
from uchiwa.store.models.people import RecoveryCode as RecoveryCode
from uchiwa.store.models.people import Shop as Shop
from uchiwa.store.models.people import User as User
from uchiwa.store.models.people import WebSession as WebSession
from uchiwa.store.models.review import Answer as Answer
from uchiwa.store.models.review import KnockDecision as KnockDecision
from uchiwa.store.models.shelf import ApiToken as ApiToken
from uchiwa.store.models.shelf import ShelfEntry as ShelfEntry

ALL = (
    Shop, User, Attempt, WebSession, Flash, Customer, Car, Job, Round, LogFile, LogRawChunk, LogChannel, ChannelChunk, ChannelLevel,
    StoredCalibration, Revision, Draft, ControllerImage, RevisionImage, Answer, KnockDecision, PullNote, Event, FoundInLog,
    ChannelMemory, BriefPattern, CustomerLink, Message, ComputedChannel, KeptArrangement, LogNote, WorkerBeat,
    Estimate, DemoPart, RecoveryCode, OneTimeLink, AuditEntry, JobNote, Mail, LiveSession, LiveEvent, LiveOverlay,
    ShelfEntry, ApiToken, Passkey,
)  # fmt: skip
