import { useQuery } from "@tanstack/react-query";
import { api, data, type Schemas } from "./client";
import { useChange } from "./queries";

export const useAuthority = (drawer: string, authority: string) =>
  useQuery({
    queryKey: ["drawers", drawer, authority, "authority"],
    queryFn: () => data(api.GET("/api/drawers/{drawer}/authorities/{authority}", { params: { path: { drawer, authority } } })),
  });

// The newest that were issued, as far as they match; the chest searches all of them.
export const useIssued = (drawer: string, authority: string, q: string) =>
  useQuery({
    queryKey: ["drawers", drawer, authority, "issued", q],
    queryFn: () =>
      data(
        api.GET("/api/drawers/{drawer}/authorities/{authority}/certificates", {
          params: { path: { drawer, authority }, query: { limit: 200, ...(q && { q }) } },
        }),
      ),
    placeholderData: (before) => before,
  });

export const useCreateAuthority = (drawer: string) =>
  useChange((body: Schemas["NewAuthority"]) => data(api.POST("/api/drawers/{drawer}/authorities", { params: { path: { drawer } }, body })));

export const useRenewAuthority = (drawer: string, authority: string) =>
  useChange((body: { life: string; under?: string }) =>
    data(api.POST("/api/drawers/{drawer}/authorities/{authority}/renew", { params: { path: { drawer, authority } }, body })),
  );

export const useRevoke = (drawer: string, authority: string) =>
  useChange((body: { serial: string; reason?: Schemas["RevocationReason"] }) =>
    data(api.POST("/api/drawers/{drawer}/authorities/{authority}/revoke", { params: { path: { drawer, authority } }, body })),
  );

export const useIssueCertificate = (drawer: string, profile: string) =>
  useChange((body: Schemas["CertificateOrder"]) =>
    data(api.POST("/api/drawers/{drawer}/profiles/{profile}/certificates", { params: { path: { drawer, profile } }, body })),
  );

export const useIssueToken = (drawer: string, profile: string) =>
  useChange((body: Schemas["NewJWT"]) =>
    data(api.POST("/api/drawers/{drawer}/profiles/{profile}/tokens", { params: { path: { drawer, profile } }, body })),
  );

export const useRenewCertificate = (drawer: string, item: string) =>
  useChange((body: { staged?: boolean }) =>
    data(api.POST("/api/drawers/{drawer}/certificates/{item}/renew", { params: { path: { drawer, item } }, body })),
  );

export const useSelfSigned = (drawer: string) =>
  useChange(({ item, ...body }: Schemas["CertificateOrder"] & { item: string }) =>
    data(api.POST("/api/drawers/{drawer}/certificates/{item}/self-signed", { params: { path: { drawer, item } }, body })),
  );

export const useRequestCertificate = (drawer: string) =>
  useChange(({ item, ...body }: Schemas["CertificateOrder"] & { item: string }) =>
    data(api.POST("/api/drawers/{drawer}/certificates/{item}/request", { params: { path: { drawer, item } }, body })),
  );

export const useAnswerCertificate = (drawer: string, item: string) =>
  useChange((certificate: string) =>
    data(api.POST("/api/drawers/{drawer}/certificates/{item}/answer", { params: { path: { drawer, item } }, body: { certificate } })),
  );
