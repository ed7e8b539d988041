// Package suite is the list of all checks.
package suite

import (
	"toril/audit"
	"toril/audit/access"
	"toril/audit/domain"
	"toril/audit/ends"
	"toril/audit/esp"
	"toril/audit/ike"
	"toril/audit/key"
	"toril/audit/life"
	"toril/audit/nat"
	"toril/audit/observed"
	"toril/audit/pfs"
	"toril/audit/policy"
	"toril/audit/read"
	"toril/audit/route"
	"toril/audit/tidy"
)

// All returns every check, by area in the order in which practitioners work: the peers, IKE, ESP, lifetimes, networks,
// address translation, access, both ends; then names, and what could not be read. It is long as a list is: a line a check.
func All() []*audit.Check {
	return []*audit.Check{
		ike.Refused,
		ike.Version1,
		ike.VersionOpen,
		ike.Aggressive,
		ike.Authentication,
		ike.Weak,
		ike.Downgrade,
		ike.WeakerFirst,
		ike.OpenPeer,
		ike.IdentityOpen,
		ike.NoLiveness,
		ike.Quantum,

		key.Weak,
		key.Reused,
		key.Alike,
		key.SharedByAny,
		key.Missing,
		key.FarRule,
		key.Unused,
		key.ShortRSA,
		key.ShortCurve,
		key.SmallExponent,
		key.LongValidity,
		key.CertificateShared,
		key.WeakSignature,
		key.Expiry,
		key.RevocationsLate,
		key.Usage,
		key.Name,
		key.PrivateSaved,

		esp.NothingEncrypted,
		esp.NoEncryption,
		esp.NoIntegrity,
		esp.Weak,
		esp.Downgrade,
		esp.AHAlone,
		esp.Replay,
		esp.SequenceNumbers,
		esp.Transport,
		esp.Compression,

		pfs.Absent,
		pfs.Optional,
		pfs.WeakGroup,
		pfs.WeakerThanIKE,

		life.Unit,
		life.IKETooLong,
		life.ChildTooLong,
		life.ChildLongerThanIKE,
		life.NoHardLimit,
		life.NoByteLimit,
		life.TooShort,
		life.Margin,

		domain.AnyToAny,
		domain.SidesOverlap,
		domain.ClaimedTwice,
		domain.Covered,
		domain.InTheClear,
		domain.PublicInside,
		domain.Wider,
		domain.BehindItself,

		nat.Rewritten,
		nat.LateExemption,
		nat.WideExemption,
		nat.NarrowExemption,
		nat.LeftoverExemption,
		nat.DestinationBends,
		nat.OuterRewritten,
		nat.NoEgress,
		nat.NoEncapsulation,

		access.AnyFromTunnel,
		access.BeyondIntent,
		access.ShortOfIntent,
		access.Blanket,
		access.Blocked,
		access.AnswersStopped,
		access.OneWay,
		access.NoEgress,
		access.NoICMP,
		access.NoMSS,
		access.IKEClosed,
		access.IKEOpen,
		access.Management,
		access.DefaultAccept,
		access.Shadowed,
		access.NeverMatches,
		access.Redundant,
		access.NoLog,

		route.ClearWhenDown,
		route.BlackholeWins,
		route.NoRouteIn,
		route.NoTunnelInterface,
		route.NoReturn,
		route.MTU,
		route.NoRouteToPeer,
		route.OwnAddress,
		route.RoutedNotSelected,
		route.WrappedInTheClear,
		route.AnswersStray,
		route.ProtocolBlocked,
		route.ProtocolPassive,
		route.ProtocolOutside,

		ends.NoCounterpart,
		ends.Unreachable,
		ends.VersionDiffers,
		ends.ProposalsDiffer,
		ends.AuthenticationDiffers,
		ends.IdentityDiffers,
		ends.KeyDiffers,
		ends.CertificateUntrusted,
		ends.PFSDiffers,
		ends.IKERekeyFails,
		ends.NotMirrored,
		ends.AnyAgainstList,
		ends.SeveralNetworks,
		ends.LifetimesDiffer,
		ends.ModeDiffers,
		ends.DataDiffers,
		ends.BothWait,
		ends.FarEndUnseen,
		ends.WeakerThanPossible,
		ends.BackupMissing,

		observed.NotUp,
		observed.Failed,
		observed.NotLoaded,
		observed.NotConfigured,
		observed.SuiteDiffers,
		observed.WeakInUse,
		observed.Narrowed,
		observed.OneWay,
		observed.EndsApart,
		observed.TooOld,
		observed.Rejected,
		observed.InTheClear,

		tidy.Unused,
		tidy.Undefined,
		tidy.SaidTwice,

		read.Refused,
		read.IncludeMissing,
		read.Unread,

		policy.Expired,
		policy.Unused,
	}
}
