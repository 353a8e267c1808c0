"""The API, at /api/v1/."""

from django.urls import path, register_converter
from drf_spectacular.views import SpectacularAPIView, SpectacularSwaggerSplitView
from rest_framework.permissions import AllowAny

from server.access import api as access
from server.access import errors
from server.access.fields import Identity
from server.alarms import api as alarms
from server.definitions import api as definitions
from server.definitions import running, trying
from server.fleet import api as fleet
from server.fleet import constants, devices, photos, succession
from server.history import api as history
from server.history import why
from server.intake import api as intake

register_converter(Identity, "id")

V1 = [
    ("sign-in", access.SignInView),
    ("sign-out", access.SignOutView),
    ("me", access.MeView),
    ("me/password", access.PasswordView),
    ("people", access.PeopleView),
    ("people/<id:pk>", access.PersonView),
    ("tokens", access.TokensView),
    ("tokens/<id:pk>", access.TokenView),
    ("record", access.RecordView),
    ("overview", history.OverviewView),
    ("lookback", history.LookbackView),
    ("sites", fleet.SitesView),
    ("sites/<str:name>", fleet.SiteView),
    ("types", fleet.TypesView),
    ("types/<str:key>", fleet.TypeView),
    ("types/<str:key>/setpoints/<str:name>", fleet.TypeSetpointView),
    ("types/<str:key>/decode-again", definitions.DecodeAgainView),
    ("types/<str:key>/decode-again/preview", trying.AgainPreviewView),
    ("devices", devices.DevicesView),
    ("devices/<str:name>", devices.DeviceView),
    ("devices/<str:name>/key", devices.DeviceKeyView),
    ("devices/<str:name>/constants", constants.ConstantsView),
    ("devices/<str:name>/constants/<id:ident>", constants.ConstantView),
    ("devices/<str:name>/photo", photos.PhotoView),
    ("devices/<str:name>/successor", succession.SuccessorView),
    ("devices/<str:name>/series", history.SeriesView),
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
    ("definitions/<id:ident>", definitions.DefinitionView),
    ("definitions/<id:ident>/versions", definitions.VersionsView),
    ("definitions/<id:ident>/trial", definitions.TrialView),
    ("definitions/<id:ident>/trial/progress", trying.TrialProgressView),
    ("definitions/<id:ident>/cases", trying.CasesView),
    ("definitions/<id:ident>/cases/run", trying.RunCasesView),
    ("definitions/<id:ident>/cases/<id:case>", trying.CaseView),
    ("definitions/<id:ident>/effect", trying.EffectView),
    ("definitions/<id:ident>/in-force", trying.InForceView),
    ("definitions/<id:ident>/publish", definitions.PublishView),
    ("definitions/<id:ident>/rollout", running.RolloutView),
    ("definitions/<id:ident>/chosen", running.ChosenView),
    ("definitions/<id:ident>/runs", running.RunsView),
    ("definitions/<id:ident>/failing", running.FailingView),
    ("devices/<str:name>/hold", running.HoldView),
    ("definitions/<id:ident>/retire", definitions.RetireView),
    ("alarms", alarms.AlarmsView),
    ("alarms/summary", alarms.SummaryView),
    ("alarms/<id:ident>", alarms.AlarmView),
    ("alarms/<id:ident>/acknowledge", alarms.AcknowledgeView),
    ("alarms/<id:ident>/note", alarms.NoteView),
    ("journal", alarms.JournalView),
    ("why/reading", why.WhyReadingView),
    ("why/alarm/<id:ident>", why.WhyAlarmView),
]

handler400, handler403 = errors.bad, errors.forbidden
handler404, handler500 = errors.not_found, errors.failed

urlpatterns = [path(f"api/v1/{route}", view.as_view()) for route, view in V1] + [
    path("api/v1/schema", SpectacularAPIView.as_view(permission_classes=[AllowAny]), name="schema"),
    path("api/v1/docs", SpectacularSwaggerSplitView.as_view(url_name="schema", permission_classes=[AllowAny])),
]
