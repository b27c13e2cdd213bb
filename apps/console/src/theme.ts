import { createTheme, type MantineColorsTuple } from '@mantine/core';

const teal: MantineColorsTuple = [
  '#eaf3f2', '#d5e5e3', '#a9cbc8', '#7bb0ad', '#559a96', '#3c8c88', '#2b7773', '#1f4f52', '#1a4446', '#123234',
];

// From ink on paper to paper at night, as in tokens.css.
const night: MantineColorsTuple = [
  '#e6ecea', '#c3cfcd', '#a3b4b3', '#7d908f', '#3d5053', '#2c3c3f', '#1d2b2e', '#172326', '#10191b', '#0b1214',
];

export const theme = createTheme({
  fontFamily: 'var(--font)',
  fontFamilyMonospace: 'var(--font-octets)',
  primaryColor: 'teal',
  primaryShade: { light: 7, dark: 5 },
  defaultRadius: 'sm',
  colors: { teal, dark: night },
  fontSizes: { xs: '12px', sm: '14px', md: '14px', lg: '16px', xl: '21px' },
  components: {
    Button: { defaultProps: { size: 'compact-md', variant: 'default' } },
    TextInput: { defaultProps: { size: 'sm' } },
    Select: { defaultProps: { size: 'sm', allowDeselect: false } },
    ActionIcon: { defaultProps: { variant: 'subtle', color: 'gray' } },
  },
});
