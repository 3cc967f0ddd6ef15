import type { components } from "./schema";

type Schemas = components["schemas"];

export type ServiceStatus = Schemas["ServiceStatus"];
export type EndpointStatus = Schemas["EndpointStatus"];
export type ReplicaStatus = Schemas["ReplicaStatus"];
export type Spread = Schemas["Spread"];
export type Step = Schemas["Step"];
export type ReplicaSteps = Schemas["ReplicaSteps"];
export type RecordedCall = Schemas["RecordedCall"];
export type CallDetail = Schemas["CallDetail"];
export type RestingEndpoint = Schemas["RestingEndpoint"];
export type EndpointEvent = Schemas["EndpointEvent"];
export type CallMove = Schemas["CallMove"];
export type DeviceStatus = Schemas["DeviceStatus"];
export type DeviceOwner = Schemas["DeviceOwner"];
export type DevicePlace = Schemas["DevicePlace"];
export type FitAnswer = Schemas["FitAnswer"];
export type KeyEntry = Schemas["KeyEntry"];
export type MadeKey = Schemas["MadeKey"];
export type NewKey = Schemas["NewKey"];
export type RenderAnswer = Schemas["RenderAnswer"];
export type LoadStatus = Schemas["LoadStatus"];
export type LoadOrder = Schemas["LoadOrder"];
export type EndpointHistory = Schemas["History"];
