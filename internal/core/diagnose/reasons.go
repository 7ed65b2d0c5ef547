package diagnose

import "mellowgate/internal/core/reason"

// shown is the sign that a reason is, by who gives it.
type shown struct {
	try     Shows // a device, of one try at a server
	ended   Shows // a device, of how a method or a login ended
	dropped Shows // a server, of a question that it did not answer, or not with a decision
	decided Shows // a server, of its decision
}

// signsOf has every reason that speaks of something that went wrong.
var signsOf = map[reason.Reason]shown{
	reason.Silent:        {try: silentSign},
	reason.Closed:        {try: closedSign},
	reason.NoWay:         {try: noWaySign},
	reason.NoSource:      {try: noWaySign},
	reason.KeyDiffers:    {try: unreadableSign, dropped: saysUnfitSign},
	reason.ClientUnknown: {try: droppedConnSign, dropped: unknownSign}, // a device sees no more than the end
	reason.Ended:         {try: droppedConnSign},
	reason.CutOff:        {try: cutOffSign},
	reason.Unreadable:    {try: unreadableSign},
	reason.Unverified:    {try: unverifiedSign},
	reason.Unsigned:      {try: unsignedAnswer},
	reason.ServerError:   {try: saidErrorSign, dropped: saidErrorSign},
	reason.Late:          {try: lateSign},
	reason.WrongPort:     {try: otherPortSign, dropped: otherPortSign},
	reason.NotForThis:    {try: notForThisSign, dropped: notForThisSign},
	reason.TLS:           {try: tlsSign, dropped: tlsSign},

	reason.RefusedByServer: {ended: refusedSign},
	reason.WrongPassword:   {ended: localRefused, decided: saidWrongPassword},
	reason.NoSuchAccount:   {ended: localRefused},
	reason.NoAccounts:      {ended: noFallbackSign},
	reason.NoAnswer:        {ended: silentSign},
	reason.AllResting:      {ended: leftAlone},
	reason.NotCarried:      {ended: notForThisSign},
	reason.ListEnded:       {ended: noFallbackSign},
	reason.GivesUpFirst:    {ended: gaveUpSign},
	reason.BelowLevel:      {ended: belowPages},
	reason.NoList:          {ended: sessionNotAsked},
	reason.NotSupported:    {ended: notForThisSign, decided: notForThisSign},
	reason.TemplateMissing: {ended: templateSign},
	reason.NotRecorded:     {ended: notKeptSign},
	reason.WrongSecret:     {ended: localRefused},
	reason.LinePassword:    {ended: localRefused},
	reason.LockedForNow:    {ended: lockedSign},
	reason.NotListed:       {ended: notListedSign},
	reason.NotFromHere:     {ended: notFromHereSign},

	reason.UnknownPerson:    {decided: saidUnknown},
	reason.Disabled:         {decided: saidDisabled},
	reason.NoGrant:          {decided: saidNoGrant},
	reason.CommandRefused:   {decided: saidCommand},
	reason.PasswordForm:     {decided: saidForm},
	reason.SecondFactor:     {decided: saidSecondFactor},
	reason.CodeAsked:        {decided: challengedSign},
	reason.NoEntry:          {decided: saidNoEntry},
	reason.PasswordExpired:  {decided: saidExpired},
	reason.NameSpelling:     {decided: saidUnknown},
	reason.DirectoryDown:    {dropped: dirDownSign},
	reason.DirectoryRefuses: {try: dirRefusesSign, dropped: dirRefusesSign},
	reason.DirectoryNoBase:  {try: dirNoBaseSign, dropped: dirNoBaseSign},
	reason.DirectoryTLS:     {dropped: dirTLSSign},

	reason.Malformed:              {try: malformedSign, dropped: malformedSign},
	reason.NoMessageAuthenticator: {dropped: unsignedSign},
	reason.TooMany:                {dropped: tooManySign},
	reason.RecordUnknown:          {dropped: notForThisSign},
	reason.CannotTake:             {dropped: overloadedSign},
	reason.RecordNotKept:          {dropped: notKeptSign},
	reason.DecisionNotKept:        {dropped: notKeptSign},
}
