"""The API, at /api/v1/."""

from django.urls import path, register_converter
from drf_spectacular.views import SpectacularAPIView, SpectacularSwaggerSplitView
from rest_framework.permissions import AllowAny

from server.api.alarms import acts
from server.api.alarms import quality as alarm_quality
from server.api.alarms import views as alarms
from server.api.archive import views as archive
from server.api.arrivals import views as intake
from server.api.definitions import desk, running, trials, trying
from server.api.definitions import views as definitions
from server.api.devices import (
    constants,
    devices,
    fleet_file,
    notes,
    photos,
    selections,
    setpoint_file,
    setpoints,
    succession,
)
from server.api.devices import register as fleet
from server.api.history import shapes
from server.api.history import views as readings
from server.api.overview import itself, storage
from server.api.overview import views as history
from server.api.people import views as access
from server.api.places import crossings, fences
from server.api.places import map as places
from server.api.routes import tables as reference
from server.api.routes import views as routes
from server.api.telling import views as telling
from server.api.watch import rhythm as rhythm_
from server.api.watch import views as watch
from server.api.why import views as why
from server.requests import errors
from server.requests.fields import Identity

register_converter(Identity, "id")

V1 = [
    ("sign-in", access.SignInView),
    ("sign-out", access.SignOutView),
    ("me", access.MeView),
    ("me/password", access.PasswordView),
    ("people", access.PeopleView),
    ("people/<id:pk>", access.PersonView),
    ("colleagues", access.ColleaguesView),
    ("tokens", access.TokensView),
    ("tokens/<id:pk>", access.TokenView),
    ("record", access.RecordView),
    ("overview", history.OverviewView),
    ("lookback", history.LookbackView),
    ("history", readings.HistoryView),
    ("history/among", shapes.AmongView),
    ("newest", readings.NewestView),
    ("watch", watch.WatchView),
    ("watch/handover", watch.HandoverView),
    ("shifts", telling.ShiftsView),
    ("shifts/<id:ident>", telling.ShiftView),
    ("shifts/<id:ident>/send", telling.ShiftNowView),
    ("watch/bands", watch.BandsView),
    ("watch/health", watch.HealthView),
    ("watch/rhythm", rhythm_.RhythmView),
    ("itself", itself.ItselfView),
    ("storage", storage.StorageView),
    ("sites", fleet.SitesView),
    ("sites/<str:name>", fleet.SiteView),
    ("map", places.MapView),
    ("map/track", places.TrackView),
    ("map/ground", places.GroundView),
    ("fences", fences.FencesView),
    ("fences/file", fences.FencesFileView),
    ("fences/crossings", crossings.CrossingsView),
    ("fences/<id:ident>", fences.FenceView),
    ("fences/<id:ident>/versions", fences.FenceVersionsView),
    ("types", fleet.TypesView),
    ("types/<str:key>", fleet.TypeView),
    ("types/<str:key>/setpoints", setpoints.LimitsView),
    ("types/<str:key>/setpoints-file", setpoint_file.SetpointsFileView),
    ("types/<str:key>/setpoints-history", setpoints.SetpointHistoryView),
    ("types/<str:key>/setpoints-past", setpoints.SetpointPastView),
    ("types/<str:key>/setpoints/<str:name>", setpoints.TypeSetpointView),
    ("types/<str:key>/decode-again", definitions.DecodeAgainView),
    ("types/<str:key>/decode-again/preview", trying.AgainPreviewView),
    ("devices", devices.DevicesView),
    ("fleet/file", fleet_file.FleetFileView),
    ("fleet/change", fleet_file.FleetChangeView),
    ("selections", selections.SelectionsView),
    ("selections/<str:name>", selections.SelectionView),
    ("devices/<str:name>", devices.DeviceView),
    ("devices/<str:name>/key", devices.DeviceKeyView),
    ("devices/<str:name>/constants", constants.ConstantsView),
    ("devices/<str:name>/constants/<id:ident>", constants.ConstantView),
    ("devices/<str:name>/notes", notes.NotesView),
    ("devices/<str:name>/notes/<id:ident>", notes.NoteView),
    ("devices/<str:name>/photo", photos.PhotoView),
    ("devices/<str:name>/successor", succession.SuccessorView),
    ("devices/<str:name>/series", history.SeriesView),
    ("devices/<str:name>/spread", shapes.SpreadView),
    ("arrivals", intake.ArrivalsView),
    ("arrivals/<id:ident>", intake.ArrivalView),
    ("unknown-senders", intake.UnknownSendersView),
    ("unknown-senders/<id:ident>/adopt", intake.AdoptView),
    ("onboarding", intake.OnboardingView),
    ("refusals", intake.RefusalsView),
    ("language", definitions.LanguageView),
    ("check", definitions.CheckView),
    ("format", definitions.FormatView),
    ("form", definitions.FormView),
    ("decode", definitions.DecodeView),
    ("decode/curves", trying.CurvesView),
    ("guess", trying.GuessView),
    ("from-table", trying.FromTableView),
    ("definitions", definitions.DefinitionsView),
    ("definitions/propose", trying.ProposeView),
    ("definitions/<id:ident>", definitions.DefinitionView),
    ("definitions/<id:ident>/versions", definitions.VersionsView),
    ("definitions/<id:ident>/trial", trials.TrialView),
    ("definitions/<id:ident>/trial/progress", trials.TrialProgressView),
    ("definitions/<id:ident>/trace", desk.TraceView),
    ("definitions/<id:ident>/suggest", desk.SuggestView),
    ("definitions/<id:ident>/off", desk.OffView),
    ("definitions/<id:ident>/incidents", desk.IncidentsView),
    ("definitions/<id:ident>/incidents/<id:incident>", desk.IncidentView),
    ("definitions/<id:ident>/cases", trying.CasesView),
    ("definitions/<id:ident>/cases/run", trying.RunCasesView),
    ("definitions/<id:ident>/cases/<id:case>", trying.CaseView),
    ("definitions/<id:ident>/effect", trying.EffectView),
    ("definitions/<id:ident>/instruction", trying.InstructionView),
    ("definitions/<id:ident>/in-force", trying.InForceView),
    ("definitions/<id:ident>/publish", definitions.PublishView),
    ("definitions/<id:ident>/rollout", running.RolloutView),
    ("definitions/<id:ident>/chosen", running.ChosenView),
    ("definitions/<id:ident>/runs", running.RunsView),
    ("definitions/<id:ident>/failing", running.FailingView),
    ("devices/<str:name>/hold", running.HoldView),
    ("definitions/<id:ident>/retire", definitions.RetireView),
    ("archive", archive.ArchiveView),
    ("archive/file", archive.ArchiveFileView),
    ("routes", routes.BookView),
    ("routes/order", routes.OrderView),
    ("routes/order/trial", routes.OrderTrialView),
    ("routes/try", routes.TryView),
    ("routes/flow", routes.FlowView),
    ("tables", reference.TablesView),
    ("tables/<id:ident>", reference.TableView),
    ("tables/<id:ident>/file", reference.TableFileView),
    ("alarms", alarms.AlarmsView),
    ("alarms/summary", alarms.SummaryView),
    ("alarms/<id:ident>", alarms.AlarmView),
    ("alarms/<id:ident>/sheet", alarms.SheetView),
    ("alarms/lines", alarms.LinesView),
    ("alarms/quality", alarm_quality.QualityView),
    ("alarms/acknowledge", acts.AcknowledgeView),
    ("alarms/give-back", acts.GiveBackView),
    ("alarms/note", acts.NoteView),
    ("alarms/shelve", acts.ShelveView),
    ("alarms/unshelve", acts.UnshelveView),
    ("alarms/assign", acts.AssignView),
    ("outlets", telling.OutletsView),
    ("outlets/preview", telling.PreviewView),
    ("outlets/<id:ident>", telling.OutletView),
    ("outlets/<id:ident>/test", telling.OutletTestView),
    ("outlets/<id:ident>/readings", telling.OutletReadingsView),
    ("contacts", telling.ContactsView),
    ("contacts/<id:ident>", telling.ContactView),
    ("chains", telling.ChainsView),
    ("chains/<id:ident>", telling.ChainView),
    ("who-is-told", telling.WhoView),
    ("deliveries", telling.DeliveriesView),
    ("deliveries/again", telling.SendAgainView),
    ("reached-hosts", telling.HostsView),
    ("reached-hosts/<id:ident>", telling.HostView),
    ("journal", alarms.JournalView),
    ("journal/file", alarms.JournalFileView),
    ("why/reading", why.WhyReadingView),
    ("why/alarm/<id:ident>", why.WhyAlarmView),
]

handler400, handler403 = errors.bad, errors.forbidden
handler404, handler500 = errors.not_found, errors.failed

urlpatterns = [path(f"api/v1/{route}", view.as_view()) for route, view in V1] + [
    path("api/v1/schema", SpectacularAPIView.as_view(permission_classes=[AllowAny]), name="schema"),
    path("api/v1/docs", SpectacularSwaggerSplitView.as_view(url_name="schema", permission_classes=[AllowAny])),
]
