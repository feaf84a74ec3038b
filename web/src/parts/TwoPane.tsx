import styled from 'styled-components';

/** A list, and beside it what is to become of it. */
export const Two = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 372px;
  min-height: 0;
`;

/** The list, which scrolls. */
export const Sheet = styled.div`
  overflow: auto;
  min-width: 0;
`;

/** What stands beside it. */
export const Side = styled.aside`
  border-left: 1px solid ${(p) => p.theme.rule};
  overflow: auto;
  padding: 18px 22px 24px 20px;
  h3 {
    font-size: 13px;
    font-weight: 600;
    margin: 0 0 6px;
  }
`;

/** What the list is of. */
export const Top = styled.header`
  padding: 14px 24px 12px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  h2 {
    font-size: 17px;
    line-height: 24px;
    overflow-wrap: anywhere;
  }
  p {
    color: ${(p) => p.theme.ink2};
  }
  code {
    color: ${(p) => p.theme.ink};
  }
`;
