/** The service's API. Its types come from docs/openapi.json, so a renamed field breaks the build. */
import createClient from 'openapi-fetch';

import type { components, paths } from './schema';

export type Status = components['schemas']['Status'];
export type SessionView = components['schemas']['SessionView'];
export type SessionDetails = components['schemas']['SessionDetails'];
export type EndReason = components['schemas']['EndReason'];
export type BanView = components['schemas']['BanView'];
export type Busiest = components['schemas']['Busiest'];
export type LadderView = components['schemas']['LadderView'];
export type LadderPacket = components['schemas']['LadderPacket'];
export type LiveReading = components['schemas']['LiveReading'];
export type WindowAverage = components['schemas']['WindowAverage'];
export type History = components['schemas']['History'];
export type HistoryRemark = components['schemas']['HistoryRemark'];
export type HistoryPoint = components['schemas']['HistoryPoint'];
export type SignIn = components['schemas']['SignIn'];
export type Me = components['schemas']['Me'];
export type TopicView = components['schemas']['TopicView'];
export type TopicList = components['schemas']['TopicList'];
export type TopicDetails = components['schemas']['TopicDetails'];
export type TopicMessage = components['schemas']['TopicMessage'];
export type SubscriptionList = components['schemas']['SubscriptionList'];
export type TopicMatch = components['schemas']['Match'];
export type DriftView = components['schemas']['DriftView'];
export type AccessQuestion = components['schemas']['AccessQuestion'];
export type AccessAnswer = components['schemas']['AccessAnswer'];
export type Matrix = components['schemas']['Matrix'];
export type Right = components['schemas']['Right'];
export type RefusalView = components['schemas']['RefusalView'];
export type BlueprintFile = components['schemas']['BlueprintFile'];
export type Check = components['schemas']['Check'];
export type Comparison = components['schemas']['Comparison'];
export type FieldChange = components['schemas']['FieldChangeView'];
export type RevisionView = components['schemas']['RevisionView'];
export type IdentityView = components['schemas']['IdentityView'];
export type TokenView = components['schemas']['TokenView'];
export type AuthorityView = components['schemas']['AuthorityView'];
export type PersonView = components['schemas']['PersonView'];
export type Role = components['schemas']['Role'];
export type RetainedView = components['schemas']['RetainedView'];
export type RetainedMessage = components['schemas']['RetainedMessage'];
export type Journey = components['schemas']['Journey'];
export type RecipientView = components['schemas']['RecipientView'];
export type RecordingView = components['schemas']['RecordingView'];
export type RecordedMessage = components['schemas']['RecordedMessage'];
export type RecordedJourney = components['schemas']['RecordedJourney'];
export type DeskArrival = components['schemas']['DeskArrival'];
export type DeskEvents = components['schemas']['DeskEvents'];
export type DeskSetupView = components['schemas']['DeskSetupView'];
export type ListenerView = components['schemas']['ListenerView'];
export type AlertView = components['schemas']['AlertView'];
export type AlertRehearsal = components['schemas']['AlertRehearsal'];
export type NoticeView = components['schemas']['NoticeView'];
export type InboxView = components['schemas']['InboxView'];
export type DerivedList = components['schemas']['DerivedList'];
export type DerivedView = components['schemas']['DerivedView'];
export type DerivedCounts = components['schemas']['DerivedCounts'];
export type DerivedDetails = components['schemas']['DerivedDetails'];
export type DerivedTrialOutcome = components['schemas']['DerivedTrialOutcome'];
export type TopicOwnership = components['schemas']['TopicOwnership'];
export type NotOwner = components['schemas']['NotOwnerView'];
export type BridgeView = components['schemas']['BridgeView'];
export type BridgeMappingView = components['schemas']['BridgeMappingView'];
export type BridgeList = components['schemas']['BridgeList'];
export type BridgePreview = components['schemas']['BridgePreview'];
export type BridgePreviewSide = components['schemas']['BridgePreviewSide'];
export type LinkState = components['schemas']['LinkState'];
export type EventView = components['schemas']['EventView'];
export type EventKind = components['schemas']['EventKind'];
export type AuditView = components['schemas']['AuditView'];
export type Problem = components['schemas']['Problem'];

export const api = createClient<paths>({ baseUrl: '/' });

/** What a person is told when a call failed. */
export function reasonOf(problem: unknown): string {
  if (problem && typeof problem === 'object' && 'detail' in problem) return String(problem.detail);
  return 'The service does not respond. Check that it is running.';
}
